"""The house: which room may import which. The test enforces it; the picture in docs/ is drawn from it."""

#: Room to what it may import, lower rooms first. `programs.protocol` is that one module of a room.
MAY_IMPORT: dict[str, tuple[str, ...]] = {
    "source": (),
    "estate": ("source",),
    "evidence": ("estate", "source"),
    "programs": ("estate", "evidence", "source"),
    "dns": ("estate", "evidence", "source", "programs.protocol"),
    "net": ("estate", "evidence", "source", "programs.protocol"),
    "tls": ("estate", "evidence", "source"),
    "http": ("estate", "evidence", "source", "programs.protocol"),
    "journey": ("dns", "net", "tls", "http", "programs", "evidence", "estate", "source"),
    "diagnosis": ("journey", "dns", "net", "tls", "http", "programs", "evidence", "estate", "source"),
    "formats": ("estate", "source"),
    "transcribing": ("formats", "estate", "source"),
    "rehearsal": ("journey", "formats", "evidence", "estate", "source"),
    "views": (
        "diagnosis",
        "rehearsal",
        "journey",
        "dns",
        "net",
        "tls",
        "http",
        "programs",
        "evidence",
        "estate",
        "source",
    ),
}
#: What is in each room, for the picture.
HOLDS = {
    "source": "places, problems, harmless text",
    "estate": "typed values that do not change",
    "evidence": "kinds of decisions, legs, outcomes",
    "programs": "what differs between servers",
    "dns": "names to addresses",
    "net": "the way of a packet",
    "tls": "handshakes",
    "http": "sites and answers",
    "journey": "an exchange, a visit, a moment",
    "diagnosis": "causes, remedies, exposure",
    "formats": "text to values",
    "transcribing": "real configuration read in",
    "rehearsal": "the real thing, on this machine",
    "views": "finished values, rendered",
    "cli": "files, clock, terminal",
}
#: Rooms that compute: no clock, no files, no network, no printing.
PURE = ("source", "estate", "evidence", "programs", "dns", "net", "tls", "http", "journey", "diagnosis")
