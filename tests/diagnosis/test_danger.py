"""What was said to be safe and proven, and was not: each with what is said now, and what must never be handed out for it."""

import json
from pathlib import Path

import pytest

import portolan
from portolan.diagnosis.exposure import Exposure
from portolan.diagnosis.gains import Gain
from portolan.diagnosis.trial import rewrites_history
from portolan.public import Described
from portolan.source.problem import EstateError

DANGER = Path(__file__).parent.parent / "found" / "danger"

#: File, URL, vantage; the first cause; how what is handed out begins (nothing: advice or none), its class; words of no patch that is.
ROWS = [
    ("plain-leg-called-safe", "https://bookings.cape.example/", "street", "redirect-loop-origin-plain", "let the edge cape.example ask its origin encrypted and verified", "safe", "x-forwarded-proto"),
    ("closed-seal-lifted", "https://prints.heron.example/", "street", "bucket-sealed", None, None, "seal"),
    ("closed-filter-opened", "https://shop.heron.example/", "street", "edge-filter-blocks", None, None, "198.51.100.77"),
    ("closed-section-is-open", "https://rota.loft.example/private/", "street", "refusal-missing", "let nobody in at /private/", "safe", "everyone"),
    ("private-bucket-made-public", "https://www.clockhouse.example/", "street", "bucket-grant-missing", "let the edge front alone read clockhouse-pages/*", "opens", "everyone"),
    ("public-site-granted-one-file", "http://www.clockhouse.example/", "street", "bucket-grant-missing", "let everyone read www.clockhouse.example/*", "opens", "edge"),
    ("forward-past-the-front", "https://shop.clockhouse.example/", "street", "forward-missing", "forward tcp port 443 on gate to front (10.50.0.10)", "opens", "10.50.0.20"),
    ("front-bypassed", "http://tickets.bay.example/seats.html", "street", "listener-wrong-port", "let web listen on 80 too", "safe", "desk"),
    ("record-of-a-front", "https://shop.clockhouse.example/", "street", "name-wrong-address", "change shop.clockhouse.example from 203.0.113.28 to 203.0.113.82", "safe", "10.50.0.20"),
    ("front-lacks-443", "https://shop.clockhouse.example/", "street", "listener-wrong-port", "let web listen on 443 tls too", "safe", "till"),
    ("redirect-to-inner-address", "https://shop.clockhouse.example/", "street", "redirect-inner-target", "let door turn redirects", "safe", "connect till"),
    ("leg-made-plain", "https://shop.heron.example/", "street", "edge-leg-mismatch", "let web listen on 443 tls too", "safe", "plainly"),
    ("origin-plain-patch-drops-encryption", "https://www.clockhouse.example/", "street", "edge-leg-mismatch", "let web listen on 443 tls too", "safe", "plainly"),
    ("edge-leg-only-weakens", "https://www.clockhouse.example/", "street", "edge-leg-unverified", "let museum show the certificate museum", "safe", "no longer check"),
    ("redirect-away-drops-secure", "http://www.eddy.example/old/", "street", "redirect-loop-names", "let the redirect of the site terns lead to https://{host}", "safe", "take the redirect"),
    ("rule-file-password", "http://www.lab.example/in/", "desk", "access-denied", None, None, "password"),
    ("missing-file-remedy", "http://www.lab.example/new.html", "desk", "content-missing", "put new.html into the folder of www", "safe", "rights"),
    ("unreadable-folder-called-missing", "http://www.lab.example/s/none", "desk", "content-unreadable", "give a/s to the group www-data", "opens", "everybody"),
    ("index-txt-rename-loses-mode", "http://clockhouse.example/", "street", "content-index-missing", "put index.html into the folder of museum", "safe", "name the file"),
    ("group-opens-to-everybody", "https://ledger.rock.example:8443/", "office", "group-wrong-source", "allow tcp port 8443 from 203.0.113.55 in the group keepers", "opens", "0.0.0.0/0"),
    ("group-wrong-group", "https://ledger.rock.example:8443/", "office", "group-missing-port", "allow tcp port 8443 from 203.0.113.55 in the group keepers", "opens", "group web"),
    ("step-one-stops-the-service", "http://clockhouse.example/", "street", "listener-wrong-port", "let web listen on 443 tls too, with the certificate both", "safe", "forget"),
    ("old-settings-in-effect", "https://prints.heron.example/", "street", "edge-not-in-effect", None, None, "before"),
    ("not-in-effect-bypassed", "https://www.clockhouse.example/", "street", "edge-not-in-effect", None, None, "203.0.113.90"),
    ("edge-asked-before-it-was", "https://images.skerry.example/", "street", "edge-not-in-effect", None, None, "in_effect_from"),
    ("range-half-let-in", "https://shop.heron.example/", "street", "edge-origin-closed", "allow port 443 in the group web from 203.0.113.128/28 too", "opens", "0.0.0.0/0"),
    ("half-of-the-ranges", "https://www.clockhouse.example/", "street", "edge-origin-closed", "allow tcp port 80 from 192.0.2.128/28", "opens", "0.0.0.0/0"),
    ("factory-certificate-lan", "https://192.168.7.9/", "v", "cert-private-name", None, None, "public"),
    ("remedies-that-cannot-be", "http://www.lab.example:80/", "desk", "content-unreadable", "let everybody on the machine read a/index.html", "opens", "group nobody"),
    ("remedies-that-cannot-be", "http://www.lab.example:82/", "desk", "cert-name", "write '10.7.0.20 up.lab.example' into the hosts file of front", "safe", "anew"),
    ("private-ca-pem", "http://www.lab.example:80/", "desk", "cert-expired", "renew the certificate up", "safe", "hosts"),
    ("private-ca-pem", "http://www.lab.example:81/", "desk", "cert-name", "get the certificate shop anew", "safe", "hosts"),
]  # fmt: skip


def held(name: str) -> Described:
    """A danger, loaded."""
    path = DANGER / name
    return portolan.load(str(path if path.is_dir() else path.with_suffix(".yaml")))


@pytest.mark.parametrize(("name", "url", "vantage", "code", "best", "safety", "never"), ROWS)
def test_what_is_said_now(name, url, vantage, code, best, safety, never):
    """The right cause, the remedy that lays open no more than is needed, and the dangerous one never handed out."""
    found = held(name).explain(url, vantage)
    assert found.causes[0].code == code
    handed = found.best
    if best is None:
        assert handed is None or not handed.patch
    else:
        assert handed.text.startswith(best)
        assert (handed.safety, handed.complete) == (safety, True)
        after = held(name).changed(handed.patch).explain(url, vantage)
        assert after.missed == ()
    patches = [each.patch for each in found.remedies if each.safety != "weakens"]
    assert not any(map(rewrites_history, patches))
    given = handed.patch if handed is not None else []
    assert never not in json.dumps(given) + (handed.text if given else "")


@pytest.mark.parametrize(
    ("name", "url", "vantage", "got"),
    [
        ("relative-redirect", "http://www.lab.example/", "desk", "http://www.lab.example/login"),
        ("gateway-itself", "http://0.0.0.0:8000/", "itself", "museum/index.html"),
        ("gateway-itself", "http://0.0.0.0:8000/", "desk", "refused"),
        ("tls-feature-crash", "https://www.kestrel.example/", "street", "a/index.html"),
        ("sibling-glue-incomplete", "http://www.g.example/", "street", "web/index.html"),
    ],
)
def test_what_visitors_get(name, url, vantage, got):
    """As the real ones: a path is resolved at the front, 0.0.0.0 is the machine itself, odd extensions and old hints do no harm."""
    outcome = held(name).follow(url, vantage).outcome
    assert got in (outcome.page, outcome.final_url, outcome.detail)


def test_zones_have_an_end():
    """A negative number has one, and lines that make lines have a bound for the whole estate."""
    assert held("generate-hang").estate.zones["k.example"].data.nodes
    with pytest.raises(EstateError, match="at most 300000 lines of every"):
        held("generate-bomb")


def test_a_closed_object_says_so_at_every_gain():
    """What is marked as meant counts whatever else a change lays open."""
    open_one = Gain("readable", ("object", "everybody"), "everybody can read it", "needed")
    assert not Exposure((open_one,)).closed
    assert Exposure((open_one, open_one.but(key=("seal",), closed=True))).closed
