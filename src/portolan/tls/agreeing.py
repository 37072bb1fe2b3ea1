"""What client and server agree on before a certificate counts: a version, and whether the server shakes hands at all.

Whose versions count differs between programs, and so does when a client's certificate is asked for: nginx answers 400 after the
handshake, Apache httpd breaks it off (measured).
"""

from portolan.estate.client import Client
from portolan.estate.service import WebService
from portolan.estate.site import Site
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import tls as tls_kinds
from portolan.evidence.legs import Handshake
from portolan.evidence.outcome import Detail

#: What clients and servers of today speak (RFC 8996 took the older ones out).
USUAL = ("1.2", "1.3")


def disagreement(service: WebService, site: Site, ruling: Site, client: Client, breaks_off: bool) -> Handshake | None:
    """Why a handshake with a site comes to nothing, whatever certificate it has; None where it goes on.

    `ruling` is the site whose versions count; `breaks_off` says that the program wants a client's certificate in the handshake.
    """
    decision: Decision
    theirs, ours = ruling.tls_versions or service.tls_versions or USUAL, client.tls_versions or USUAL
    if not set(theirs) & set(ours):
        held = ruling if ruling.tls_versions else service
        spoken = (service.name, ", ".join(theirs), client.name, ", ".join(ours))
        decision = tls_kinds.NoCommonVersion(*spoken, place=held.place.key("tls_versions"), subject=held)
        return Handshake(Detail.NO_COMMON_VERSION, (decision,), None, decision)
    if site.rejects_handshake:
        place = site.place.key("rejects_handshake")
        decision = tls_kinds.HandshakeRejected(service.name, site.name, place=place, subject=site)
        return Handshake(Detail.OTHER, (decision,), None, decision)
    unfit = site.refuses_client(client.client_certificate) if breaks_off else None
    if unfit is not None:
        place = site.place.key("client_certificates")
        decision = tls_kinds.ClientCertificateWanted(site.name, client.name, unfit, place=place, subject=site)
        return Handshake(Detail.CLIENT_CERTIFICATE, (decision,), None, decision)
    return None
