"""Why a service does not start."""

from enum import StrEnum

from portolan.source.value import Value


class Why(StrEnum):
    """What kept it from starting."""

    NO_PRIVILEGE = "no-privilege"
    ADDRESS_IN_USE = "address-in-use"
    ADDRESS_ABSENT = "address-absent"
    KEY_MISFIT = "key-misfit"
    CERTIFICATE_ORDER = "certificate-order"
    FILE_MISREAD = "file-misread"
    CERTIFICATE_REQUESTED = "certificate-requested"
    CERTIFICATE_WEAK = "certificate-weak"
    NO_CERTIFICATE = "no-certificate"
    UPSTREAM_UNKNOWN = "upstream-unknown"
    TWO_DEFAULTS = "two-defaults"
    SECTION_TWICE = "section-twice"
    CONFIGURATION_BROKEN = "configuration-broken"


class StartFailure(Value, frozen=True):
    """A reason, in words, and the certificate, site or service that it is about."""

    why: Why
    text: str
    about: str | None = None

    def __format__(self, spec: str) -> str:
        return format(self.text, spec)
