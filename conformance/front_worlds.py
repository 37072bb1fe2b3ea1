"""The table's worlds about fronts: what is passed on, to whom, as whom, and what comes of each failure."""

import json

from conformance.web_common import U, WebWorld, asks, behind, world

BOTH = ("nginx", "apache")
INNER = """\
inner:
  names: [inner.kestrel-ridge.example]
  files: [index.html, x.html, app/index.html, app/x.html, base/x.html, base/index.html, basex.html, sub/index.html, "sp ace.html", x/index.html, app/sub/index.html]
  redirects:
    - {when: {path: /old}, to: /sub/}
    - {when: {path: /app/old}, to: /app/sub/}
    - {when: {path: /away}, to: "https://other.kestrel-ridge.example/"}
    - {when: {path: /leak}, to: "http://{host}/sub/"}
    - {when: {path: /full}, to: "http://{host}:8080/sub/"}
    - {when: {path: /written}, to: "http://10.20.0.16:8080/sub/"}
    - {when: {path: /app/written}, to: "http://10.20.0.16:8080/app/sub/"}
    - {when: {path: /says, header: {X-Forwarded-Proto: https}}, to: /secure.html}
    - {when: {path: /says, header: {X-Forwarded-Proto: http}}, to: /plain.html}
    - {when: {path: /says, header: {X-Forwarded-Proto: "http, https"}}, to: /both.html}
visitors:
  names: [visit.kestrel-ridge.example]
  files: [index.html, x.html, app/x.html, sub/index.html]
  redirects:
    - {when: {path: /old}, to: /sub/}
    - {when: {path: /full}, to: "http://{host}:8080/sub/"}
    - {when: {path: /force, not_header: {X-Forwarded-Proto: https}}, to: "https://{host}{path}{query}"}
pool: {names: [pool], files: [index.html, x.html]}
literal: {names: [10.20.0.16], files: [index.html, x.html, app/x.html, app/index.html, x/index.html, base/x.html, basex.html, "sp ace.html", sub/index.html, ax.html], redirects: [{when: {path: /old}, to: /sub/}, {when: {path: /app/old}, to: /app/sub/}, {when: {path: /written}, to: "http://10.20.0.16:8080/sub/"}, {when: {path: /app/written}, to: "http://10.20.0.16:8080/app/sub/"}]}
"""
ADDRESS, NAME = "http://10.20.0.16:8080", "http://inner.kestrel-ridge.example:8080"
SECURE = "https://inner.kestrel-ridge.example:8443"


def front(
    name: str,
    facts: str,
    asked: list[tuple[str, str]],
    *,
    only: tuple[str, ...] = BOTH,
    inners: tuple[str, ...] = ("nginx",),
    **more: str,
) -> dict[str, WebWorld]:
    """One site with facts before the program behind, on each server."""
    certificate, filtered, extra = more.pop("certificate", "made"), more.pop("filtered", ""), more.pop("extra", "")
    sites = "visit:\n  names: [visit.kestrel-ridge.example]\n" + "".join(
        f"  {line}\n" for line in facts.strip("\n").split("\n")
    )
    return {
        f"front: {name} ({program}{'' if len(inners) == 1 else f' before {inner}'})": world(
            program, sites, asked, others=behind(inner, INNER, certificate, filtered) + extra, **more
        )
        for program in only
        for inner in inners
    }


def section(path: str, to: str, more: str = "") -> str:
    """A site of its own with one section that is passed on."""
    return f'files: [index.html, app, own.html]\nsections: [{{path: {path}, upstream: {{to: "{to}"{more}}}}}]'


PATHS = "/ /x.html /sub /sub/ /old /away /leak /full /written /nope /a%2Fb /sp%20ace.html /x.html?q=1 /says"
APP = "/app /app/ /app/x.html /appx.html /application /app/old /app/written /app/sp%20ace.html /app/%78.html /app/x%2Fy /app/x/ /own.html"
KINDS = {
    "greets": 7000,
    "silent": 7001,
    "closes": 7002,
    "resets": 7003,
    "bad-header": 7004,
    "long-header": 7005,
    "breaks-off": 7006,
    "websocket": 7007,
}
ODD = "".join(f"      {kind}: {{kind: other, listens: [{port}], when_asked: {kind}}}\n" for kind, port in KINDS.items())
OWN = "files: [sorry.html]\n"
FAILS = {
    "refused": "http://10.20.0.16:8099",
    "filtered": "http://10.20.0.16:8098",
    "rejected": "http://10.20.0.16:8097",
    "nobody": "http://10.20.0.99:8080",
    "unknown": "http://nobody.test:8080",
    "no TLS": "https://10.20.0.16:8080",
    "TLS": "http://10.20.0.16:8443",
    **{kind: f"http://10.20.0.16:{port}" for kind, port in KINDS.items()},
}
FILTER = "filter: {inbound: {rules: [{drop: tcp, ports: 8098}, {reject: tcp, ports: 8097}]}}"
PAGES = {
    "none": "",
    "there": "error_pages: {502: /sorry.html, 503: /sorry.html, 504: /sorry.html}",
    "missing": "error_pages: {502: /gone.html, 503: /gone.html, 504: /gone.html}",
    "behind the same": "error_pages: {502: /x.html, 503: /x.html, 504: /x.html}",
}

#: One is opened, at an address that takes it alone, and asked for as a page.
SOCKETS = [
    (url, "street")
    for url in ("ws://visit.kestrel-ridge.example/live/x", U + "/live/x", "ws://visit.kestrel-ridge.example/index.html")
]
LIVE = 'files: [index.html]\nsections: [{{path: /live/, upstream: {{to: "http://10.20.0.16:7007/"{more}}}}}]'

#: Scripts that a program on another machine runs, and one that nobody runs.
RUNNER = "      runner: {kind: scripts, listens: [9000]}\n"
SCRIPTS = (
    "files: [index.php, a.php, x.html, in/index.php, sorry.html]\nindex_files: [index.php, index.html]\n"
    'sections: [{{pattern: "[.]php$", scripts_at: "10.20.0.16:{port}"}}]'
)
RUN = asks("/ /a.php /x.html /in/ /in /none.php /none/b.php", "street", "poster")

FRONT_WORLDS: dict[str, WebWorld] = {
    **front("scripts", SCRIPTS.format(port=9000), RUN, extra=RUNNER),
    **front("scripts that nobody runs", SCRIPTS.format(port=9001), RUN, extra=RUNNER),
    **front("scripts for all that is missing", f"{SCRIPTS.format(port=9000)}\nfallback: index.php", RUN, extra=RUNNER),
    **front(
        "scripts beside a file of rules",
        f"{SCRIPTS.format(port=9000)}\nreads_rule_files: true\n"
        "rule_files: [{in: '', redirects: [{when: {path: /in/*}, to: /x.html}]}, {in: in, access: {nobody: true}}]",
        RUN,
        only=("apache",),
        extra=RUNNER,
    ),
    **front("websockets", LIVE.format(more=", upgrades: true"), SOCKETS, extra=ODD),
    **front("websockets, not passed on", LIVE.format(more=""), SOCKETS, extra=ODD),
    **front("everything", f'upstream: "{ADDRESS}"', asks(PATHS), inners=BOTH),
    **front(
        "nobody let in, and a page for that",
        f'upstream: "{ADDRESS}"\naccess: {{nobody: true}}\nerror_pages: {{403: /x.html}}',
        asks("/ /x.html /sub/"),
    ),
    **front(
        "nobody let in, and no page for that",
        f'upstream: "{ADDRESS}"\naccess: {{nobody: true}}\nerror_pages: {{403: /nope}}',
        asks("/ /x.html"),
    ),
    **front(
        "a password, and a page for that",
        f'upstream: "{ADDRESS}"\naccess: {{password: true}}\nerror_pages: {{401: /x.html}}',
        asks("/ /x.html /sub/", "street", "member"),
    ),
    **front("everything, by name", f'upstream: "{NAME}"', asks(PATHS)),
    **front(
        "everything, visitor's name kept",
        f'upstream: {{to: "{ADDRESS}", host: kept}}',
        asks(PATHS + " /force", "street", "dotted", "upper", "ported"),
        inners=BOTH,
    ),
    **front(
        "everything, another name",
        f'upstream: {{to: "{ADDRESS}", host: inner.kestrel-ridge.example}}',
        asks(PATHS),
        inners=BOTH,
    ),
    **front("everything, redirects turned", f'upstream: {{to: "{ADDRESS}", turns_redirects: true}}', asks(PATHS)),
    **front("everything, redirects not turned", f'upstream: {{to: "{ADDRESS}", turns_redirects: false}}', asks(PATHS)),
    **front("everything, by name, redirects turned", f'upstream: {{to: "{NAME}", turns_redirects: true}}', asks(PATHS)),
    **front(
        "everything, with a path", f'upstream: "{ADDRESS}/base/"', asks("/ /x.html /sub /nope /x%2Fy /sp%20ace.html")
    ),
    **front("everything, with a path without slash", f'upstream: "{ADDRESS}/base"', asks("/ /x.html /sub")),
    **{
        key: value
        for path in ("/app", "/app/")
        for to in ("", "/", "/app", "/app/", "/base", "/base/")
        for key, value in front(f"section {path} to {to or 'no path'}", section(path, ADDRESS + to), asks(APP)).items()
    },
    **front(
        "section, redirects turned",
        section("/app/", f"{ADDRESS}/app/", ", turns_redirects: true"),
        asks("/app/old /app/written /app/x"),
    ),
    **front(
        "section, redirects turned, another path",
        section("/app/", f"{ADDRESS}/", ", turns_redirects: true"),
        asks("/app/old /app/written /app/full /app/x"),
    ),
    **front(
        "sections, longest or first",
        f'files: [own.html, app/deep/own.html]\nsections:\n  - {{path: /app, upstream: "{ADDRESS}"}}\n  - {{path: /app/deep, answer: 410}}\n  - {{path: /, files: [own.html]}}',
        asks("/app/x.html /app/deep/x /own.html /application"),
    ),
    **front(
        "sections, own content inside a front",
        f'upstream: "{ADDRESS}"\nsections:\n  - {{path: /img/, files: [a.jpg]}}\n  - {{exact: /x.html, answer: 410}}',
        asks("/ /img/a.jpg /img/ /x.html /sub/"),
    ),
    **front(
        "sections, exact and pattern",
        f'files: [own.html]\nsections:\n  - {{exact: /x.html, upstream: "{ADDRESS}"}}\n  - {{pattern: "^/sub", upstream: "{ADDRESS}"}}',
        asks("/x.html /x.htmlx /sub /sub/ /own.html"),
    ),
    **front(
        "access before passing on",
        f'upstream: "{ADDRESS}"\naccess: {{password: true}}',
        asks("/x.html", "street", "member"),
    ),
    **front(
        "methods narrowed before passing on",
        f'upstream: "{ADDRESS}"\nmethods: [GET]',
        asks("/x.html", "street", "poster", "putter", "header"),
    ),
    **front(
        "methods passed on",
        f'upstream: "{ADDRESS}"',
        asks("/x.html /nope", "poster", "putter", "deleter", "optioner", "tracer", "header"),
        inners=BOTH,
    ),
    **front("bodies", f'upstream: "{ADDRESS}"', asks("/x.html", "heavy", "light")),
    **front(
        "bodies allowed",
        f'upstream: "{ADDRESS}"\nlargest_body: 2000000',
        asks("/x.html", "heavy", "light"),
        inners=BOTH,
    ),
    **front(
        "bodies not allowed",
        f'upstream: "{ADDRESS}"\nlargest_body: 500',
        asks("/x.html", "heavy", "light", "street"),
        inners=BOTH,
    ),
    **front(
        "scheme set",
        f'upstream: {{to: "{ADDRESS}", host: inner.kestrel-ridge.example, headers: {{X-Forwarded-Proto: "{{scheme}}"}}}}',
        asks("/says", "street", "secure"),
        inners=BOTH,
    ),
    **front(
        "scheme not said",
        f'upstream: {{to: "{ADDRESS}", host: inner.kestrel-ridge.example}}',
        asks("/says", "street", "secure", "plain"),
        inners=BOTH,
    ),
    **front(
        "scheme appended",
        f'upstream: {{to: "{ADDRESS}", host: inner.kestrel-ridge.example, appends: {{X-Forwarded-Proto: https}}}}',
        asks("/says", "street", "secure", "plain"),
        inners=BOTH,
    ),
    **front(
        "secure asked plainly",
        f'upstream: {{to: "{ADDRESS}", host: kept, headers: {{X-Forwarded-Proto: "{{scheme}}"}}}}',
        asks("/force /x.html", base="https://visit.kestrel-ridge.example") + asks("/force"),
        listens="[80, 443 tls]",
        service="certificate: visit",
    ),
    **front(
        "secure asked plainly, not said",
        f'upstream: {{to: "{ADDRESS}", host: kept}}',
        asks("/force", base="https://visit.kestrel-ridge.example"),
        listens="[80, 443 tls]",
        service="certificate: visit",
    ),
    **{
        key: value
        for what, facts in {
            "unverified": f'to: "{SECURE}"',
            "unverified, by address": 'to: "https://10.20.0.16:8443"',
            "visitor's name kept": f'to: "{SECURE}", host: kept',
            "verified": f'to: "{SECURE}", verifies: true, server_name: true',
            "verified by the house": f'to: "{SECURE}", verifies: true, trusts: [Ridge], server_name: true',
            "verified, by address": 'to: "https://10.20.0.16:8443", verifies: true, trusts: [Ridge]',
            "verified, no name said": f'to: "{SECURE}", verifies: true, trusts: [Ridge]',
        }.items()
        for certificate in ("made", "inner", "other")
        for key, value in front(
            f"TLS, {what}, {certificate}", f"upstream: {{{facts}}}", asks("/x.html"), certificate=certificate
        ).items()
    },
    **{
        key: value
        for why, to in FAILS.items()
        for what, pages in PAGES.items()
        if what == "none" or why in ("refused", "silent", "closes", "unknown")
        for key, value in front(
            f"{why}, error page {what}",
            f'{pages}\nsections:\n  - {{exact: /sorry.html, folder: /srv/pages, files: [sorry.html]}}\n  - {{path: /, upstream: "{to}"}}',
            asks("/"),
            filtered=FILTER,
            extra="".join(ODD.splitlines(keepends=True)),
        ).items()
    },
    **front(
        "error pages for the upstream's errors",
        f'upstream: {{to: "{ADDRESS}", replaces_errors: true}}\nerror_pages: {{404: /x.html}}',
        asks("/nope /x.html /a%2Fb /sub/index.htm"),
    ),
    **front(
        "error pages not for the upstream's errors",
        f'upstream: "{ADDRESS}"\nerror_pages: {{404: /x.html}}',
        asks("/nope"),
    ),
    **front(
        "error page by another front",
        f'error_pages: {{502: /x.html, 503: /x.html}}\nsections:\n  - {{path: /dead, upstream: "http://10.20.0.16:8099"}}\n  - {{path: /, upstream: "{ADDRESS}"}}',
        asks("/dead /x.html"),
    ),
    **front("itself", 'upstream: "http://203.0.113.40"', asks("/")),
    **front("itself, its own name kept", 'upstream: {to: "http://203.0.113.40", host: kept}', asks("/")),
    **{
        key: value
        for what, members in {
            "all alive": [ADDRESS, "http://10.20.0.16:8080"],
            "first dead": ["http://10.20.0.16:8099", ADDRESS],
            "second dead": [ADDRESS, "http://10.20.0.16:8099"],
            "all dead": ["http://10.20.0.16:8099", "http://10.20.0.16:8096"],
            "first silent": ["http://10.20.0.16:7001", ADDRESS],
            "first closes": ["http://10.20.0.16:7002", ADDRESS],
        }.items()
        for who in ("street", "poster")
        for key, value in front(
            f"pool, {what}, {who}",
            f"upstream: {{to: {json.dumps(members)}, host: inner.kestrel-ridge.example}}",
            asks("/x.html", who),
            extra=ODD,
        ).items()
    },
    **front("pool, its own name", f'upstream: {{to: ["{ADDRESS}", "{ADDRESS}"]}}', asks("/x.html")),
}
