"""The table's worlds about sites that pass everything on, and about connections that open and then fail."""

from conformance.common import BOTH, HOST, Facts, P, V

OTHER = "https://other.kestrel-ridge.example"
PLAIN = "http://other.kestrel-ridge.example"
SITE = (
    "names: [other.kestrel-ridge.example]\n            certificate: visit\n            files: [index.html]",
    "names: [other.kestrel-ridge.example]\n            certificate: visit\n            upstream: {}",
)
#: The program behind: a folder, redirects of every kind, a status of its own, a listener with TLS, one that speaks no HTTP.
BEHIND = """\
  vega:
    interfaces: {{dome: {{address: 10.20.0.16}}}}
    filter: {{inbound: {{rules: [{{drop: tcp, ports: 8082}}, {{reject: tcp, ports: 8083}}]}}}}
    services:
      inner:
        program: {}
        listens: [8080, 8443 tls]
        sites:
          inner:
            names: [inner.kestrel-ridge.example]
            certificate: inner
            files: [index.html, sub/index.html]
            redirects:
              - {{when: {{path: /old}}, to: /sub/}}
              - {{when: {{path: /full}}, to: "http://{{host}}:8080/sub/"}}
              - {{when: {{path: /leak}}, to: "http://{{host}}/sub/"}}
              - {{when: {{path: /away}}, to: "https://visit.kestrel-ridge.example/"}}
      odd: {{kind: other, listens: [7000]}}
certificates:
  inner: {{names: [inner.kestrel-ridge.example], issuer: self}}
"""
NAMED = (HOST, f"{HOST}\n    hosts_file: {{lines: [10.20.0.16 inner.kestrel-ridge.example]}}")
PATHS = ("/", "/sub", "/sub/", "/old", "/full", "/leak", "/away", "/nothing", "/a%2Fb", "/sub/?x=1")
FAILING = {
    "refused": "http://10.20.0.16:8081",
    "silent": "http://10.20.0.16:8082",
    "rejected": "http://10.20.0.16:8083",
    "nobody": "http://10.20.0.99",
    "far away": "http://192.0.2.9",
    "no TLS there": "https://10.20.0.16:8080",
    "TLS there": "http://10.20.0.16:8443",
    "another name's certificate": "https://10.20.0.16:8443",
    "its own certificate": "https://inner.kestrel-ridge.example:8443",
    "no HTTP": "http://10.20.0.16:7000",
    "unknown name": "http://nobody.kestrel-ridge.example:8080",
}


def _behind(front: str, inner: str, upstream: str) -> list[tuple[str, str]]:
    program = ("program: nginx", f"program: {front}")
    return [program, (SITE[0], SITE[1].format(upstream)), ("certificates:\n", BEHIND.format(inner)), NAMED]


UPSTREAM_WORLDS: dict[str, tuple[Facts, list[str], tuple[str, ...]]] = {
    **{
        f"upstream: {front} before {inner}": (
            _behind(front, inner, "http://10.20.0.16:8080"),
            [f"{PLAIN}{path}" for path in PATHS] + [f"{OTHER}/sub"],
            ("street",),
        )
        for front in ("nginx", "apache")
        for inner in ("nginx", "apache")
    },
    **{
        f"upstream by name: {front}": (
            _behind(front, "nginx", "http://inner.kestrel-ridge.example:8080"),
            [f"{PLAIN}{path}" for path in PATHS[:7]],
            BOTH,
        )
        for front in ("nginx", "apache")
    },
    **{
        f"upstream: {front}, {what}": (_behind(front, "nginx", upstream), [f"{PLAIN}/sub/", f"{V}/"], ("street",))
        for front in ("nginx", "apache")
        for what, upstream in FAILING.items()
    },
    **{
        f"upstream: {front}, itself": (
            [
                ("program: nginx", f"program: {front}"),
                (
                    SITE[0],
                    SITE[1]
                    .format("http://10.20.0.15")
                    .replace("names: [other", "default: true\n            names: [other"),
                ),
            ],
            [f"{PLAIN}/"],
            ("street",),
        )
        for front in ("nginx", "apache")
    },
    "later packets: rejected with a reset": (
        [
            (
                HOST,
                f"{HOST}\n    filter: {{stateful: false, inbound: {{rules: [{{allow: tcp, state: new}}, {{reject: tcp, answer: tcp-reset}}]}}}}",
            )
        ],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "later packets: dropped": (
        [
            (
                HOST,
                f"{HOST}\n    filter: {{stateful: false, inbound: {{rules: [{{allow: tcp, state: new}}, {{drop: tcp}}]}}}}",
            )
        ],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "later packets: rejected by a router": (
        [
            (
                "    masquerade: [line]\n",
                "    masquerade: [line]\n    filter: {stateful: false, forward: {rules: [{allow: tcp, state: new}, {allow: tcp, source_ports: [80, 443]}, {reject: tcp, answer: tcp-reset}]}}\n",
            )
        ],
        [f"{V}/", f"{P}/"],
        ("street",),
    ),
    "later packets: rejected with a message": (
        [
            (
                HOST,
                f"{HOST}\n    filter: {{stateful: false, inbound: {{rules: [{{allow: tcp, state: new}}, {{reject: tcp}}]}}}}",
            )
        ],
        [f"{V}/"],
        ("street",),
    ),
}
