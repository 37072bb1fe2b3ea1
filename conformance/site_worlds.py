"""The table's worlds about sites: choice, sections, content, rights, access, methods, error pages, redirects."""

from conformance.web_common import U, WebWorld, asks, world

BOTH = ("nginx", "apache")
#: A folder with all that a folder can have.
FULL = (
    "files: [index.html, a.html, sub/index.html, sub/deep/x.html, empty/, list/x.txt, only/index.htm, dirdoc/index.html/, "
    "Case.html, app.html, sorry.html, secret.html]"
)
PATHS = (
    "/ /a.html /nope /nope/ /sub /sub/ /sub/deep /sub/deep/ /empty /empty/ /list/ /only/ /dirdoc/ /dirdoc /case.html "
    "/Case.html /a.html/ /a.html/x /sub/../a.html /sub/%2e%2e/a.html /a%2Ehtml /sub%2Findex.html //a.html /sub//index.html"
)


def one(
    name: str, facts: str, asked: list[tuple[str, str]], only: tuple[str, ...] = BOTH, **more: str
) -> dict[str, WebWorld]:
    """One site with facts, on each server."""
    sites = f"visit:\n  names: [visit.kestrel-ridge.example]\n{_in(facts)}"
    return {f"site: {name} ({program})": world(program, sites, asked, **more) for program in only}


def many(
    name: str, sites: str, asked: list[tuple[str, str]], only: tuple[str, ...] = BOTH, **more: str
) -> dict[str, WebWorld]:
    """Several sites."""
    return {f"sites: {name} ({program})": world(program, sites, asked, **more) for program in only}


def _in(facts: str) -> str:
    return "".join(f"  {line}\n" for line in facts.strip("\n").split("\n") if line.strip())


#: Paths tried in several orders, with no page for all else, one that is there, one that is not; a folder that is not there.
TRIED = (
    "['{path}']",
    "['{path}.html', '{path}/']",
    "['{path}/', '/x.html']",
    "['/x.html', '{path}']",
    "['{path}/index.html', '{path}']",
    "['{path}/x.html', '{path}/']",
)
ENDS = {"": "", ", else a page": "\nfallback: x.html", ", else a page that is not there": "\nfallback: gone.html"}
LIES = "files: [sub/deep/a.html, sub.html, index.html, x.html, sub/index.html, sub/x.html]"
AWAY = "folders: {/srv/visit: {files: [x.html]}}"
LOOKED = "/ /sub /sub/ /sub/deep /sub/deep/ /sub.html /x /x.html /nope"
NESTED = """\
folders:
  /srv/visit: {files: [index.html, in/a.html, shut/x], rights: {shut: '0700 root:root'}}
  /srv/open/in: {files: [b.html]}
  /srv/old: {files: []}
"""
METHODS = ("street", "header", "poster", "putter", "deleter", "patcher", "optioner", "tracer")
WHO = ("street", "member")
RIGHTS = {
    "file of nobody": "rights: {a.html: '0600 root:root'}",
    "file by its group": "rights: {a.html: '0640 root:www-data'}",
    "file by its owner": "rights: {a.html: '0400 www-data:root'}",
    "owner's bits count for the owner": "rights: {a.html: '0044 www-data:root'}",
    "group's bits count for the group": "rights: {a.html: '0604 root:www-data'}",
    "index file": "rights: {index.html: '0600 root:root'}",
    "folder without search": "rights: {sub: '0744 root:root'}",
    "folder without read": "rights: {sub: '0711 root:root'}",
    "the folder itself": "rights: {.: '0700 root:root'}",
    "a folder above": "folder: /srv/visit\nrights: {/srv: '0750 root:root'}",
    "a folder above, by its group": "folder: /srv/visit\nrights: {/srv: '0750 root:www-data'}",
    "closed for other reasons": "unreadable: [a.html, sub]",
    "listing of a folder without read": "listing: true\nrights: {list: '0711 root:root'}",
}
LINKS = {
    "inside": "links: {to: a.html, into: sub, up: sub/../a.html}",
    "to nothing": "links: {to: gone.html, into: gone}",
    "not followed": "links: {to: a.html, into: sub}\nfollows_links: false",
    "in a circle": "links: {to: into, into: to}",
    "outside": "folder: /srv/visit\nlinks: {to: /srv/shared/x.html, into: /srv/shared, up: ../shared/x.html, away: /srv/none}",
}
ACCESS = {
    "nobody": "{nobody: true}",
    "from here": "{from: 198.51.100.0/24}",
    "from elsewhere": "{from: 192.0.2.0/24}",
    "not from here": "{not_from: 198.51.100.0/24}",
    "not from elsewhere": "{not_from: 192.0.2.0/24}",
    "from and not from": "{from: 198.51.100.0/24, not_from: 198.51.100.10/32}",
    "password": "{password: true}",
    "password and from elsewhere": "{password: true, from: 192.0.2.0/24}",
    "password or from elsewhere": "{password: true, from: 192.0.2.0/24, either: true}",
    "password or from here": "{password: true, from: 198.51.100.0/24, either: true}",
    "password or nobody": "{password: true, nobody: true, either: true}",
}
ANSWERS = {
    "nginx": (200, 204, 206, 400, 403, 404, 410, 444, 451, 494, 497, 499, 500, 503, 599),
    "apache": (200, 204, 400, 403, 404, 410, 451, 500, 503),
}
ERRORS = {
    "there": "error_pages: {404: /sorry.html, 403: /sorry.html}",
    "missing": "error_pages: {404: /gone.html, 403: /gone.html}",
    "a folder": "error_pages: {404: /sub/, 403: /sub/}",
    "unreadable": "error_pages: {404: /secret.html, 403: /secret.html}\nrights: {secret.html: '0600 root:root'}",
    "elsewhere": 'error_pages: {404: "http://other.kestrel-ridge.example/x", 403: "http://other.kestrel-ridge.example/x"}',
    "for another status": "error_pages: {500: /sorry.html}",
    "behind a password": "error_pages: {404: /sub/index.html, 401: /sorry.html}\nsections: [{path: /sub/, access: {password: true}}]",
    "itself refused": "access: {nobody: true}\nerror_pages: {403: /sorry.html}",
}
NAMES = """\
first: {names: [first.kestrel-ridge.example], files: [index.html]}
exact: {names: [visit.kestrel-ridge.example], files: [index.html]}
star: {names: ["*.kestrel-ridge.example"], files: [index.html]}
deep: {names: ["*.deep.kestrel-ridge.example"], files: [index.html]}
tail: {names: [tail.*], files: [index.html]}
dot: {names: [.dot.example, .point.kestrel-ridge.example], files: [index.html]}
dotted: {names: [final.kestrel-ridge.example.], files: [index.html]}
"""
NAMED = [
    (f"http://{name}/", "street")
    for name in (
        "first.kestrel-ridge.example",
        "visit.kestrel-ridge.example",
        "x.kestrel-ridge.example",
        "x.deep.kestrel-ridge.example",
        "point.kestrel-ridge.example",
        "a.point.kestrel-ridge.example",
        "final.kestrel-ridge.example",
        "final.kestrel-ridge.example.",
        "tail.kestrel-ridge.example",
        "203.0.113.40",
    )
]
SAID = (
    "street", "nobody", "old", "oldnamed", "empty", "emptyold", "dotted", "ported", "upper", "literal", "other", "hut",
    "twodots", "badport", "slashed", "long",
)  # fmt: skip
SECTIONS = """\
files: [index.html, app/index.html, app/x.html, application/x.html, img/x.jpg, img/x.html, app/deep/x.html]
sections:
"""
SECTIONED = (
    "/ /app /app/ /app/x.html /application/x.html /app/deep/x.html /app/deep/ /img/x.jpg /img/x.html /img /status /status/ "
    "/statusx /app/x.jpg"
)
REDIRECTS = {
    "star": '[{when: {path: "/old/*"}, to: "/new/{rest}"}]',
    "pattern": '[{when: {pattern: "^/rooms/([0-9]+)/([a-z]+)$"}, to: "/{2}/{1}"}]',
    "pattern anywhere": '[{when: {pattern: "o+ms"}, to: /hit}]',
    "not this name": "[{when: {not_host: visit.kestrel-ridge.example}, to: /elsewhere}]",
    "port": "[{when: {port: 80}, to: /eighty}]",
    "other port": "[{when: {port: 81}, to: /eighty}]",
    "header": "[{when: {header: {X-Forwarded-Proto: https}}, to: /secure.html}]",
    "header not sent": "[{when: {header: {X-Forwarded-Proto: ''}}, to: /unsaid.html}]",
    "not this header": "[{when: {not_header: {X-Forwarded-Proto: https}}, to: /insecure.html}]",
    "order": '[{when: {path: /old/a}, to: /first}, {when: {path: "/old/*"}, to: /second}]',
    "query dropped": "[{when: {path: /old/a}, to: /first}]",
    "query written": '[{when: {path: /old/a}, to: "/first{query}"}]',
    "query joined": '[{when: {path: /old/a}, to: "/first?own=1", query: joined}]',
    "query joined to none": "[{when: {path: /old/a}, to: /first, query: joined}]",
    "query unless own": '[{when: {path: /old/a}, to: "/first?own=1", query: unless-own}]',
    "query unless own, none": "[{when: {path: /old/a}, to: /first, query: unless-own}]",
    "relative": '[{when: {path: /old/a}, to: "b"}]',
    "without scheme": '[{when: {path: /old/a}, to: "//other.kestrel-ridge.example/x"}]',
    "without scheme, by name": '[{when: {path: /old/a}, to: "other.kestrel-ridge.example/x"}]',
    "303": "[{when: {path: /old/a}, to: /first, status: 303}]",
    "302": "[{when: {path: /old/a}, to: /first, status: 302}]",
    "307": "[{when: {path: /old/a}, to: /first, status: 307}]",
    "308": "[{when: {path: /old/a}, to: /first, status: 308}]",
    "grows": '[{when: {path: "/old/*"}, to: "/old/x{path}"}]',
    "circle": '[{when: {path: /old/a}, to: "/old/b"}, {when: {path: /old/b}, to: "/old/a"}]',
    "too many": '[{when: {pattern: "^/old/(a*)$"}, to: "/old/a{1}"}]',
}
OLD = "/old/a /old/a?x=1 /old/deep/b /rooms/12/moon /rooms/x /"

SITE_WORLDS: dict[str, WebWorld] = {
    **one("a full folder", FULL, asks(PATHS)),
    **one("a full folder, listed", f"{FULL}\nlisting: true", asks(PATHS)),
    **one(
        "several documents",
        f"{FULL}\nindex_files: [index.htm, index.html]",
        asks("/ /sub/ /only/ /empty/ /dirdoc/"),
    ),
    **one("no documents", f"{FULL}\nindex_files: []", asks("/ /sub/ /empty/")),
    **one(
        "fallback",
        f"{FULL}\nfallback: app.html",
        asks("/ /nope /nope/ /sub /sub/ /empty /empty/ /a.html/", "street", "poster"),
    ),
    **one(
        "endings are tried",
        f"{FULL}\ntries: ['{{path}}', '{{path}}.html', '{{path}}/']",
        asks("/a /a.html /sub /sub/ /nope /"),
    ),
    **one(
        "an ending first, then a page",
        f"{FULL}\ntries: ['{{path}}.html', '{{path}}']\nfallback: app.html",
        asks("/a /nope /sub/"),
    ),
    **many(
        "redirects by its own name",
        f"visit:\n  names: [visit.kestrel-ridge.example, other.kestrel-ridge.example]\n  redirects_to: own-address\n  {FULL}\n",
        asks("/sub", "other", "street"),
    ),
    **one("redirects by the path", f"{FULL}\nredirects_to: path-only", asks("/sub"), ("nginx",)),
    **one(
        "a page for errors as another status",
        f"{FULL}\nerror_pages: {{404: /sorry.html, 403: /sorry.html}}\nerror_pages_as: {{404: 200, 403: 410}}",
        asks("/nope /empty/"),
        ("nginx",),
    ),
    **one(
        "a section for inner requests",
        f"{FULL}\nerror_pages: {{404: /sorry.html}}\nsections: [{{exact: /sorry.html, inner_only: true}}]",
        asks("/sorry.html /nope"),
        ("nginx",),
    ),
    **one(
        "a query decides", f"{FULL}\nredirects: [{{when: {{query: 'a=1'}}, to: /a.html}}]", asks("/sub/?a=1 /sub/?b")
    ),
    **one("fallback that is not there", f"{FULL}\nfallback: gone.html", asks("/nope /empty/")),
    **one("methods", FULL, asks("/ /a.html /nope /sub /sub/ /empty/", *METHODS)),
    **one("methods on a listing", f"{FULL}\nlisting: true", asks("/list/", *METHODS)),
    **one("methods on an answer", "answer: 404", asks("/x", *METHODS)),
    **one("methods narrowed", f"{FULL}\nmethods: [GET]", asks("/a.html /nope /sub /empty/", *METHODS)),
    **one("methods widened", f"{FULL}\nmethods: [GET, POST]", asks("/a.html /nope", *METHODS)),
    **one(
        "root missing", "folder: /srv/visti", asks("/ /x /x/"), machine="folders: {/srv/visit: {files: [index.html]}}"
    ),
    **{
        name: held
        for tries in TRIED
        for end, facts in ENDS.items()
        for name, held in one(
            f"tries {tries}{end}", f"{LIES}\ntries: {tries}{facts}", asks(LOOKED, "street", "poster", "optioner")
        ).items()
    },
    **{
        name: held
        for tries in TRIED[:3]
        for name, held in one(
            f"tries {tries} in no folder",
            f"folder: /srv/visti\ntries: {tries}",
            asks("/ /sub/ /x /x.html", "street", "optioner"),
            machine=AWAY,
        ).items()
    },
    **one(
        "root above stated folders",
        "folder: /srv",
        asks("/ /visit /visit/ /visit/index.html /visit/shut/x /old/ /open /open/ /open/in/b.html /x"),
        machine=NESTED,
    ),
    **one(
        "who says no name",
        "files: [index.html, in/index.html]\nredirects: [{when: {path: /old}, to: /in/}, {when: {path: /off}, to: '//{host}/in/'}]",
        asks("/ /in /in/ /old /off", "street", "old", "empty", "emptyold", "nobody", "literal"),
    ),
    **one("root there", "folder: /srv/visit", asks("/ /x /x/"), machine="folders: {/srv/visit: {files: [index.html]}}"),
    **one(
        "root below", "folder: /srv/visit/pub", asks("/ /x"), machine="folders: {/srv/visit: {files: [pub/index.html]}}"
    ),
    **one("root a file", "folder: /srv/visit/a.html", asks("/ /x"), machine="folders: {/srv/visit: {files: [a.html]}}"),
    **one(
        "root closed above",
        "folder: /srv/visit/pub",
        asks("/ /x"),
        machine="folders: {/srv/visit: {files: [pub/index.html], rights: {.: '0700 root:root'}}}",
    ),
    **{
        key: value
        for granted in ("/srv", "/srv/visit", "/srv/visti", "/var/www")
        for folder in ("/srv/visit", "/srv/visti")
        for key, value in one(
            f"granted {granted}, serves {folder}",
            f"folder: {folder}",
            asks("/ /x"),
            machine="folders: {/srv/visit: {files: [index.html]}}",
            service=f"grants: [{granted}]",
        ).items()
    },
    **{
        key: value
        for name, facts in RIGHTS.items()
        for key, value in one(
            f"rights, {name}", f"{FULL}\n{facts}", asks("/ /a.html /sub /sub/ /sub/index.html /sub/nope /list/ /nope")
        ).items()
    },
    **one(
        "served by root",
        f"{FULL}\nrights: {{a.html: '0600 root:root', sub: '0700 root:root'}}",
        asks("/a.html /sub/"),
        service="runs_as: root",
    ),
    **one(
        "served by a user with groups",
        f"{FULL}\nrights: {{a.html: '0640 root:staff', sub: '0750 root:adm'}}",
        asks("/a.html /sub/"),
        service="runs_as: web\nruns_in: [staff]",
    ),
    **{
        key: value
        for name, facts in LINKS.items()
        for key, value in one(
            f"links {name}",
            f"{FULL}\n{facts}",
            asks("/to /to/ /into /into/ /into/index.html /up /away /into/x.html"),
            machine="folders: {/srv/shared: {files: [x.html, index.html]}}" if "outside" in name else "",
        ).items()
    },
    **{
        key: value
        for name, rule in ACCESS.items()
        for key, value in one(f"access, {name}", f"{FULL}\naccess: {rule}", asks("/ /nope /sub", *WHO)).items()
    },
    **one(
        "access before redirects",
        f"{FULL}\naccess: {{nobody: true}}\nredirects: [{{when: {{path: /a.html}}, to: /b}}]",
        asks("/a.html /b"),
    ),
    **{
        key: value
        for program, every in ANSWERS.items()
        for status in every
        for key, value in one(f"answers {status}", f"answer: {status}", asks("/"), (program,)).items()
    },
    **one("answers beside access", "answer: 404\naccess: {nobody: true}", asks("/")),
    **{
        key: value
        for name, facts in ERRORS.items()
        for key, value in one(f"error page {name}", f"{FULL}\n{facts}", asks("/nope /empty/ /sub/index.html")).items()
    },
    **one("error page for an answer", "files: [x]\nanswer: 503\nerror_pages: {503: /x}", asks("/")),
    **one("largest body", f"{FULL}\nlargest_body: 1000", asks("/a.html", "heavy", "light", "poster")),
    **one("usual body", FULL, asks("/a.html /nope", "heavy")),
    **many("names", NAMES, NAMED),
    **many("names with a default", NAMES.replace("[tail.*]", "[tail.*], default: true"), NAMED),
    **many(
        "names by expression",
        'plain: {names: [x.kestrel-ridge.example], files: [index.html]}\nhut: {name_patterns: ["^hut([0-9]+)[.]kestrel"], files: [index.html]}\nany: {name_patterns: ["ridge"], files: [index.html]}\n',
        [(f"http://{name}.kestrel-ridge.example/", "street") for name in ("hut12", "hutx", "x", "HUT7")],
        ("nginx",),
    ),
    **many(
        "what is said",
        "visit: {names: [visit.kestrel-ridge.example], files: [index.html]}\nlast: {files: [index.html], default: true}\n",
        asks("/", *SAID),
    ),
    **many(
        "what is said, a site for nothing",
        'visit: {names: [visit.kestrel-ridge.example], files: [index.html]}\nempty: {names: [""], files: [index.html]}\n',
        asks("/", *SAID),
        ("nginx",),
    ),
    **many(
        "an address of its own",
        "visit: {names: [visit.kestrel-ridge.example], files: [index.html]}\nlit: {names: [lit.kestrel-ridge.example], listens: ['203.0.113.40:80'], files: [index.html]}\n",
        asks("/", "street", "literal", "other"),
    ),
    **many(
        "only an address of its own",
        "lit: {names: [lit.kestrel-ridge.example], listens: ['203.0.113.40:80'], files: [index.html]}\n",
        [*asks("/", "street"), ("http://10.20.0.15/", "street")],
    ),
    **many(
        "defaults by listener",
        "a: {names: [a.test], files: [index.html], default_on: ['80']}\nb: {names: [b.test], files: [index.html], default_on: ['8080']}\n",
        [(f"{U}{port}/", "street") for port in ("", ":8080")],
        listens="[80, 8080]",
    ),
    **many(
        "two defaults",
        "a: {names: [a.test], files: [index.html], default: true}\nb: {names: [b.test], files: [index.html], default: true}\n",
        asks("/"),
    ),
    **many(
        "off, not included, not loaded",
        "a: {names: [a.test], files: [index.html]}\nb: {names: [visit.kestrel-ridge.example], files: [index.html], included: false}\nc: {names: [other.kestrel-ridge.example], loaded: false, files: [index.html]}\n",
        asks("/", "street", "other"),
    ),
    **many(
        "two names, two certificates",
        "visit: {names: [visit.kestrel-ridge.example], certificate: visit, files: [index.html]}\nother: {names: [other.kestrel-ridge.example], certificate: other, files: [index.html]}\n",
        asks("/", "street", "other", "hut", base="https://visit.kestrel-ridge.example"),
        listens="['443 tls']",
    ),
    **many(
        "two names, one certificate",
        "visit: {names: [visit.kestrel-ridge.example], certificate: visit, files: [index.html]}\nother: {names: [other.kestrel-ridge.example], certificate: visit, files: [index.html]}\n",
        asks("/", "street", "other", "hut", base="https://visit.kestrel-ridge.example"),
        listens="['443 tls']",
    ),
    **one(
        "sections, longest",
        SECTIONS
        + "  - {path: /app, answer: 410}\n  - {path: /app/deep/, answer: 404}\n  - {exact: /status, answer: 204}",
        asks(SECTIONED),
    ),
    **one(
        "sections, order",
        SECTIONS
        + "  - {path: /app/deep/, answer: 404}\n  - {path: /app, answer: 410}\n  - {exact: /status, answer: 204}",
        asks(SECTIONED),
    ),
    **one(
        "sections, patterns",
        SECTIONS
        + '  - {pattern: "[.]jpg$", answer: 410}\n  - {path: /img/, answer: 404}\n  - {pattern: "x[.]", answer: 403}',
        asks(SECTIONED),
    ),
    **one(
        "sections, first",
        SECTIONS + '  - {pattern: "[.]jpg$", answer: 410}\n  - {path: /img/, answer: 404, first: true}',
        asks(SECTIONED),
    ),
    **one(
        "sections, access",
        SECTIONS
        + "  - {path: /app/, access: {password: true}}\n  - {path: /img, access: {nobody: true}}\n  - {exact: /status, access: {from: 192.0.2.0/24}}",
        asks(SECTIONED, *WHO),
    ),
    **one(
        "sections, access inside a closed site",
        "access: {password: true}\n" + SECTIONS + "  - {path: /app/, access: {from: 0.0.0.0/0}}",
        asks("/ /app/x.html /app/nope"),
    ),
    **one(
        "sections, own folder",
        SECTIONS
        + "  - {path: /app/, files: [index.html, y.html, z/index.html]}\n  - {path: /pics, files: [index.html, y.jpg]}",
        asks("/app /app/ /app/x.html /app/y.html /app/z /app/z/ /pics /pics/ /pics/y.jpg /picsy.jpg"),
    ),
    **one(
        "sections, methods and documents",
        SECTIONS + "  - {path: /app/, methods: [GET]}\n  - {path: /img/, listing: true}",
        asks("/app/ /img/", "street", "poster"),
    ),
    **one(
        "sections, redirects",
        "redirects: [{when: {path: /app/x.html}, to: /img/x.jpg}]\n"
        + SECTIONS
        + '  - {path: /app/, redirects: [{to: "/img/x.html{query}"}]}\n  - {path: /img/x.jpg, answer: 204}',
        asks("/app/x.html /app/?q=1 /app /img/x.jpg"),
    ),
    **one(
        "sections, error pages",
        "error_pages: {404: /index.html}\n"
        + SECTIONS
        + "  - {path: /app/, error_pages: {404: /app/x.html}}\n  - {path: /img/, answer: 404, error_pages: {404: /nope}}",
        asks("/nope /app/nope /img/nope"),
    ),
    **{
        key: value
        for name, rules in REDIRECTS.items()
        for key, value in one(
            f"redirects, {name}",
            f"files: [index.html, first, second, b, moon/12, hit, eighty, secure.html, unsaid.html, insecure.html, new/a, new/deep/b]\nredirects: {rules}",
            asks(OLD, "street", "secure", "few") + asks("/old/a", "poster"),
        ).items()
    },
    **one(
        "redirect directives late",
        'files: [index.html, b]\nredirects: [{to: /b, when: {path: /a}, query: unless-own, written_as: redirect}, {to: "/b", when: {path: /a}}]',
        asks("/a /a?x=1 /c"),
    ),
    **one(
        "rule files read",
        "files: [index.html, sub/index.html, sub/x.html, sub/two.html, sub/deep/x.html]\nreads_rule_files: true\nrule_files:\n  - {redirects: [{when: {path: /old}, to: /sub/}]}\n  - {in: sub, access: {nobody: true}, index_files: [two.html]}\n  - {in: sub/deep, access: {from: 0.0.0.0/0}}",
        asks("/ /old /sub/ /sub/x.html /sub/deep/x.html /sub/deep /nope"),
    ),
    **one(
        "rule files not read",
        "files: [index.html, sub/index.html]\nrule_files:\n  - {in: sub, access: {nobody: true}}\n  - {broken: x}",
        asks("/ /sub/"),
    ),
    **one(
        "rule files broken",
        "files: [index.html, sub/index.html]\nreads_rule_files: true\nrule_files:\n  - {in: sub, broken: x}",
        asks("/ /sub/ /sub /sub/nope"),
    ),
    **one(
        "rule files under another name",
        "files: [index.html, sub/index.html]\nreads_rule_files: true\nrule_files:\n  - {in: sub, file_name: htaccess.txt, access: {nobody: true}}",
        asks("/ /sub/"),
    ),
}
