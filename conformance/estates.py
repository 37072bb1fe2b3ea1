"""A strategy of estates, healthy and broken: a base topology with facts otherwise, in YAML."""

from hypothesis import strategies as st

from conformance.common import APACHE, BOTH, F80, F443, FILES, HOST, MASQ, MIDDLE, OFFICE_V, REC, SIX, STREET
from conformance.worlds import REJECTS
from tests.conftest import OFFICE

Facts = list[tuple[str, str]]


def questions_of(text: str) -> list[tuple[str, str]]:
    """The questions that a random estate is asked; a comment in its first line lists them."""
    first = text.split("\n", 1)[0].removeprefix("# ask ")
    return [(url, vantage) for url, _, vantage in (each.partition(" from ") for each in first.split("; "))]


def ports(draw: st.DrawFn) -> str:
    """Ports of a rule."""
    return draw(
        st.sampled_from(
            [
                "",
                ", ports: 443",
                ", ports: 80",
                ", ports: [80, 443]",
                ", ports: 79-81",
                ", ports: 22",
                ", source_ports: 1024-65535",
            ]
        )
    )


def rule(draw: st.DrawFn, chain: str) -> str:
    """One filter rule."""
    verdict = draw(st.sampled_from(["allow", "allow", "drop", "reject"]))
    protocol = draw(st.sampled_from(["tcp", "tcp", "any"]))
    parts = f"{verdict}: {protocol}"
    if protocol == "tcp":
        parts += ports(draw)
    if verdict == "reject":
        answer = draw(st.sampled_from([None, *REJECTS]))
        if answer and (answer != "tcp-reset" or protocol == "tcp"):
            parts += f", answer: {answer}"
    parts += draw(st.sampled_from(["", "", ", from: 198.51.100.0/24", ", from: 10.20.0.0/24", ", from: 0.0.0.0/0"]))
    parts += draw(
        st.sampled_from(
            [
                "",
                "",
                ", to: 10.20.0.15",
                ", to: 203.0.113.40",
                ", state: new",
                ", state: [established, related]",
                ", state: invalid",
            ]
        )
    )
    if chain == "forward":
        parts += draw(
            st.sampled_from(
                ["", "", ", in: line", ", in: dome", ", out: dome", ", forwarded: true", ", forwarded: false"]
            )
        )
    return "{" + parts + "}"


def chain(draw: st.DrawFn, name: str) -> str:
    """A chain."""
    default = draw(st.sampled_from(["allow", "drop", "drop", "reject"]))
    rules = [rule(draw, name) for _ in range(draw(st.integers(0, 3)))]
    return f"{name}: {{default: {default}, rules: [{', '.join(rules)}]}}"


def filtered(draw: st.DrawFn, *chains: str) -> str:
    """A filter with some of its chains."""
    held = [chain(draw, name) for name in chains if draw(st.booleans())]
    state = ["stateful: false"] if draw(st.integers(0, 5)) == 0 else []
    return "filter: {" + ", ".join(state + held) + "}"


@st.composite
def estates(draw: st.DrawFn) -> str:
    """An estate's text, its questions in its first line."""
    facts: Facts = []
    base = draw(st.sampled_from(["one router", "one router", "two routers", "both families"]))
    facts += {"one router": [], "two routers": MIDDLE, "both families": SIX}[base]
    host = HOST if base != "both families" else '{dome: {address: [10.20.0.15, "2001:db8:20::15"]}}'
    flip = st.integers(0, 3).map(lambda n: n == 0)
    if draw(flip):
        facts.append(
            (
                F443,
                draw(
                    st.sampled_from(
                        [
                            "",
                            F443.replace("0.15", "0.99"),
                            F443.replace("0.15", "0.50"),
                            F443.replace("}", ", enabled: false}"),
                            F443.replace("}", ", port: 80}"),
                            F443.replace("}", ", from: 198.51.100.0/25}"),
                            F443.replace("tcp: 443", "tcp: 440-450"),
                        ]
                    )
                ),
            )
        )
    if draw(flip):
        facts.append(
            (
                F80,
                draw(
                    st.sampled_from(
                        [
                            "",
                            F80.replace("0.15", "0.1"),
                            F80.replace("}", ", port: 8080}"),
                            F80.replace("}", ", port: 443}"),
                        ]
                    )
                ),
            )
        )
    masq = draw(st.sampled_from([MASQ, MASQ, MASQ, "", "    masquerade: [line, dome]\n"]))
    masq += draw(st.sampled_from(["", "", "    hairpin: full\n", "    hairpin: destination-only\n"]))
    if draw(flip):
        masq += f"    {filtered(draw, 'inbound', 'forward')}\n"
    if draw(st.integers(0, 7)) == 0:
        masq += "    services: {admin: {listens: [80, 8080]}}\n"
    facts.append((MASQ, masq))
    extra = ""
    if draw(flip):
        extra += f"\n    {filtered(draw, 'inbound', 'outbound')}"
    if draw(st.integers(0, 9)) == 0:
        extra += "\n    gateway: none"
    grouped = draw(flip)
    facts.append((host, (host[:-2] + ", groups: [web]}}" if grouped else host) + extra))
    if grouped:
        rules = [
            f"{{allow: {draw(st.sampled_from(['tcp', 'any']))}{draw(st.sampled_from(['', ', from: 10.20.0.0/24', ', from: 0.0.0.0/0', ', from: 198.51.100.77/32']))}}}".replace(
                "tcp", "tcp" + ports(draw).replace(", source_ports: 1024-65535", "")
            )
            for _ in range(draw(st.integers(0, 2)))
        ]
        outbound = draw(st.sampled_from(["", "", ", outbound: []", ", outbound: [{allow: udp}]"]))
        facts.append(("certificates:", f"groups: {{web: {{inbound: [{', '.join(rules)}]{outbound}}}}}\ncertificates:"))
    if draw(st.booleans()):
        facts.append(APACHE)
    if draw(flip):
        facts.append(
            (
                "[80, 443 tls]",
                draw(
                    st.sampled_from(
                        [
                            "[80]",
                            "[443 tls]",
                            "[80, '127.0.0.1:443 tls']",
                            "['10.20.0.15:80', 443 tls]",
                            "[80, '[::]:443 tls']",
                            "[80, 443]",
                            "[8080, 443 tls]",
                            "['0.0.0.0:80', 443 tls]",
                            "[80, '10.20.0.15:80', 443 tls]",
                            "['10.20.0.77:80', 443 tls]",
                        ]
                    )
                ),
            )
        )
    if draw(st.integers(0, 9)) == 0:
        facts.append(
            (
                "      web:\n",
                draw(
                    st.sampled_from(
                        [
                            "      old: {kind: other, listens: [443]}\n      web:\n",
                            "      old: {kind: other, listens: ['127.0.0.1:80']}\n      web:\n",
                            "      old: {listens: [80]}\n      web:\n",
                        ]
                    )
                ),
            )
        )
    if draw(st.integers(0, 11)) == 0:
        facts.append(("        listens:", "        state: stopped\n        listens:"))
    if draw(flip):
        facts.append(
            (
                "names: [visit.kestrel-ridge.example]",
                "names: "
                + draw(
                    st.sampled_from(
                        [
                            "[visti.kestrel-ridge.example]",
                            '["*.kestrel-ridge.example"]',
                            "[visit.*]",
                            "[]",
                            "[other.kestrel-ridge.example]",
                        ]
                    )
                ),
            )
        )
    if draw(flip):
        facts.append(
            (
                FILES,
                draw(
                    st.sampled_from(
                        [
                            "files: [tonight.html]",
                            "files: []",
                            "answer: 403",
                            "files: [index.htm, sub/index.html]\n            index_files: [index.htm]",
                            FILES
                            + '\n            redirects: [{when: {scheme: http}, to: "https://{host}{path}{query}"}]',
                            FILES + '\n            redirects: [{to: "https://other.kestrel-ridge.example{path}"}]',
                            FILES + '\n            redirects: [{when: {path: "/sub*"}, to: "/tonight.html{rest}"}]',
                            FILES + "\n            enabled: false",
                            FILES + "\n            listing: true",
                        ]
                    )
                ),
            )
        )
    if draw(flip):
        facts.append(
            (
                'names: ["*.kestrel-ridge.example"], from: 2026-01-01, until: 2026-06-01',
                draw(
                    st.sampled_from(
                        [
                            "names: [visit.kestrel-ridge.example]",
                            "names: [other.kestrel-ridge.example]",
                            "names: [visit.kestrel-ridge.example], until: 2026-02-01",
                            "names: [visit.kestrel-ridge.example], issuer: self",
                        ]
                    )
                ),
            )
        )
    if draw(flip):
        facts.append(
            (
                REC,
                draw(
                    st.sampled_from(
                        [
                            "",
                            "      - visit 60 A 203.0.113.99\n",
                            "      - visit 60 CNAME other\n",
                            "      - visit 60 CNAME gone\n",
                            "      - visit 60 TXT x\n",
                            '      - "* 60 A 203.0.113.40"\n',
                            "      - visit 60 A 10.20.0.15\n",
                            "      - visit.kestrel-ridge.example 60 A 203.0.113.40\n",
                            "      - visit 60 A 203.0.113.40\n      - visit 60 A 203.0.113.99\n",
                        ]
                    )
                ),
            )
        )
    if draw(st.integers(0, 7)) == 0 and base != "both families":
        facts.append((STREET, STREET.replace(", default", f", {filtered(draw, 'inbound', 'outbound')}, default")))
    if draw(st.integers(0, 4)) == 0:
        facts.append((OFFICE_V, OFFICE_V + "  self: {host: orion}\n"))
    text = OFFICE
    for old, new in facts:
        text = text.replace(old, new, 1)
    vantages = [*BOTH, *(["self"] if "  self: {" in text else [])]
    url = st.tuples(
        st.sampled_from(["http", "https"]),
        st.sampled_from(
            [
                "visit.kestrel-ridge.example",
                "visit.kestrel-ridge.example",
                "other.kestrel-ridge.example",
                "203.0.113.40",
                "10.20.0.15",
            ]
        ),
        st.sampled_from(["/", "/", "/tonight.html", "/sub", "/nope/"]),
    ).map(lambda part: f"{part[0]}://{part[1]}{part[2]}")
    asked = draw(st.lists(st.tuples(url, st.sampled_from(vantages)), min_size=4, max_size=4, unique=True))
    return "# ask " + "; ".join(f"{each} from {vantage}" for each, vantage in asked) + "\n" + text.lstrip("\n")


def simpler(text: str) -> list[str]:
    """Estates one step simpler: one question fewer, or one line as the base has it."""
    found = []
    asked = questions_of(text)
    if len(asked) > 1:
        body = text.split("\n", 1)[1]
        found += [f"# ask {url} from {vantage}\n{body}" for url, vantage in asked]
    lines = text.split("\n")
    base = set(OFFICE.split("\n"))
    for at, line in enumerate(lines[1:], 1):
        if line not in base:
            candidate = "\n".join([*lines[:at], *lines[at + 1 :]])
            try:
                from portolan.formats.estate_file import load
                from portolan.formats.files import MemoryFiles

                load(MemoryFiles({"estate.yaml": candidate}), "estate.yaml")
            except Exception:  # not an estate any more: not simpler
                continue
            found.append(candidate)
    return found
