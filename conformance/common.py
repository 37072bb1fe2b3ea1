"""What the tables of worlds share: pieces of the small estate, and small changes of it."""

Facts = list[tuple[str, str]]

V = "https://visit.kestrel-ridge.example"
P = "http://visit.kestrel-ridge.example"
F443 = "      - {on: line, tcp: 443, to: 10.20.0.15}\n"
F80 = "      - {on: line, tcp: 80, to: 10.20.0.15}\n"
HOST = "{dome: {address: 10.20.0.15}}"
MASQ = "    masquerade: [line]\n"
FILES = "files: [index.html, tonight.html, img/dome.jpg]"
CERT = 'names: ["*.kestrel-ridge.example"], from: 2026-01-01, until: 2026-06-01'
REC = "      - visit 3600 A 203.0.113.40\n"
STREET = "street: {network: internet, address: 198.51.100.77, default: true}"
OFFICE_V = "  office: {network: dome, address: 10.20.0.50}\n"
BOTH = ("street", "office")


def inbound(rules: str, default: str = "drop", extra: str = "") -> tuple[str, str]:
    """orion with an inbound filter."""
    return HOST, f"{HOST}\n    filter: {{{extra}inbound: {{default: {default}, rules: [{rules}]}}}}"


def forward(rules: str, default: str = "drop", extra: str = "") -> tuple[str, str]:
    """gateway with a forward filter."""
    return MASQ, f"{MASQ}    filter: {{{extra}forward: {{default: {default}, rules: [{rules}]}}}}\n"


def group(rules: str, more: str = "") -> list[tuple[str, str]]:
    """orion with a security group."""
    return [
        (HOST, "{dome: {address: 10.20.0.15, groups: [web]}}"),
        ("certificates:", f"groups: {{web: {{inbound: [{rules}]{more}}}}}\ncertificates:"),
    ]


def redirects(*rules: str) -> tuple[str, str]:
    """The visit site with redirects."""
    return f"            {FILES}", f"            {FILES}\n            redirects: [{', '.join(rules)}]"


APACHE = ("program: nginx", "program: apache")
SIX = [
    ("[10.20.0.0/24]", '[10.20.0.0/24, "2001:db8:20::/64"]'),
    (
        "line: {network: internet, address: 203.0.113.40}",
        'line: {network: internet, address: [203.0.113.40, "2001:db8:40::1"]}',
    ),
    ("dome: {address: 10.20.0.1}", 'dome: {address: [10.20.0.1, "2001:db8:20::1"]}'),
    ("{dome: {address: 10.20.0.15}}", '{dome: {address: [10.20.0.15, "2001:db8:20::15"]}}'),
    ("address: 198.51.100.77,", 'address: [198.51.100.77, "2001:db8:77::7"],'),
    ("dome, address: 10.20.0.50}", 'dome, address: [10.20.0.50, "2001:db8:20::50"]}'),
    (REC, REC + "      - visit 3600 AAAA 2001:db8:20::15\n      - six 3600 AAAA 2001:db8:20::15\n"),
]
NAMES_HOST = (
    "hosts:\n",
    "hosts:\n  lyra:\n    interfaces: {internet: {address: 192.0.2.53}}\n    services:\n      names: {kind: name-server, zones: [kestrel-ridge.example]}\n",
)
MIDDLE = [
    ("networks:\n", "networks:\n  middle: {subnets: [192.168.7.0/24]}\n"),
    ("line: {network: internet, address: 203.0.113.40}", "line: {network: middle, address: 192.168.7.2}"),
    (
        "routers:\n",
        "routers:\n  outer:\n    interfaces:\n      up: {network: internet, address: 203.0.113.40}\n      middle: {address: 192.168.7.1}\n    masquerade: [up]\n"
        "    forwards:\n      - {on: up, tcp: 443, to: 192.168.7.2}\n      - {on: up, tcp: 80, to: 192.168.7.9}\n",
    ),
]
SECOND = (
    "routers:\n",
    "routers:\n  second:\n    interfaces: {up: {network: internet, address: 203.0.113.41}, dome: {address: 10.20.0.2}}\n    masquerade: [up]\n",
)
