"""Decisions on how large packets may be, and on what does not arrive because of it."""

from portolan.evidence.kinds.connect import ConnectDecision


class TooLarge(ConnectDecision, frozen=True):
    kind = "too-large"
    words = "{box} does not send a packet of {size} octets on by {interface}, which takes {limit}, and says so"
    standard = "RFC 1191 section 3"

    box: str
    interface: str
    size: int
    limit: int


class VanishesOnLink(ConnectDecision, frozen=True):
    kind = "vanishes-on-link"
    words = "a packet of {size} octets vanishes on {network}, which carries {limit} and tells nobody"
    standard = "RFC 2923 section 2.1"
    stops = True
    of_the_answer = True

    network: str
    size: int
    limit: int


class WordOfSizeLost(ConnectDecision, frozen=True):
    kind = "word-of-size-lost"
    words = "{box} takes packets of {limit} octets and not of {size}, and its word of that does not reach {sender}: {reason}"
    standard = "RFC 2923 section 2.1"
    stops = True
    of_the_answer = True

    box: str
    size: int
    limit: int
    sender: str
    reason: str


class LargeStalls(ConnectDecision, frozen=True):
    kind = "large-stalls"
    words = "{what} is larger than one packet, and nothing of it arrives: {reason}"
    standard = "RFC 2923 section 2.1"
    stops = True
    of_the_answer = True

    what: str
    reason: str


class LargeUnsaid(ConnectDecision, frozen=True):
    kind = "large-unsaid"
    words = (
        "nothing says how large {what} is (`large`): it is assumed to fit one packet of {octets} octets. A larger one "
        "would not arrive: {reason}"
    )
    assumed = True
    loud = True

    what: str
    octets: int
    reason: str
