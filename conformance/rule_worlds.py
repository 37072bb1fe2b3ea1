"""The table's worlds about rules: conditions of every kind, what goes on within the server, escapes; links and files of rules."""

from conformance.site_worlds import BOTH, many, one
from conformance.web_common import N, U, WebWorld, asks

HELD = (
    "files: [index.html, app.html, about.html, b/c.html, in/x.html, in/index.html, 'b c/index.html', new]\n"
    "links: {l.html: about.html, gone: nowhere, old: in}"
)
#: What publishing programs write, one after the other.
GUARDED = """\
- {when: {fits_header: {X-Agent: "(?i)(badbot|scraper)"}}, answer: 403}
- {when: {not_method: [GET, POST]}, answer: 405}
- {when: {path: /old/*, none: [{path: /old/keep}]}, to: "/{rest}.html", inner: again}
- {when: {any: [{path: /x}, {pattern: "^/y"}], file: false}, to: /about.html, inner: again}
- {when: {pattern: "^/(.*)$", file: false, folder: false, none: [{pattern: "^/b/"}]}, to: /app.html, inner: again}
"""
ROUND = """- {when: {pattern: "^/(.*)$"}, to: "/x/{1}", inner: again}"""
SELF = """- {when: {scheme: http}, to: /about.html, inner: again}"""
ENDS = """- {when: {pattern: "^/(.*)$"}, to: "/b/{1}", inner: here}"""
SEEN = """\
- {when: {pattern: "^/(.*)$"}, to: "/b/{1}", inner: "on"}
- {when: {path: /b/c}, to: /about.html, inner: here}
"""
HANDED = """\
- {when: {pattern: "^/a/(.*)$"}, to: "/new?x={1}", inner: again}
- {when: {pattern: "^/k/(.*)$"}, to: "/new?x={1}", inner: again, query: joined}
"""
ESCAPED = f"""\
- {{when: {{pattern: "^/cap/(.*)$"}}, to: "{U}/{{1}}"}}
- {{when: {{path: /rest/*}}, to: "{U}/{{rest}}"}}
- {{when: {{path: "/s p"}}, to: /about.html}}
"""
BEHIND = """\
visit:
  names: [visit.kestrel-ridge.example]
  files: [index.html]
  sections:
    - {path: /st/, folder: /srv/st, files: [a.css]}
    - {path: /keep/, not_passed_on: true, folder: /srv/keep, files: [a.css]}
    - {path: /, upstream: "http://10.20.0.16:8080/"}
"""
INNER = """\
  vega:
    interfaces: {dome: {address: 10.20.0.16}}
    services: {inner: {program: nginx, listens: [8080], sites: {inner: {files: [st/a.css, keep/a.css, x, index.html]}}}}
"""


def ruled(rules: str) -> str:
    """Rules at a site."""
    return f"{HELD}\nredirects:\n" + "".join(f"  {line}\n" for line in rules.strip("\n").split("\n"))


def filed(rules: str) -> str:
    """Rules in a file of its folder."""
    lines = "".join(f"      {line}\n" for line in rules.strip("\n").split("\n"))
    return f"{HELD}\nreads_rule_files: true\nrule_files:\n  - redirects:\n{lines}"


def section(path: str, rule: str) -> str:
    """A rule at a section."""
    return f"{HELD}\nsections:\n  - path: {path}\n    redirects: [{rule}]\n"


PATHS = "/ /old/about /old/keep /x?q=1 /yy /orders/5 /b/c /b/d /l.html /gone /old /in /in/x.html"
AGAIN = '{when: {pattern: "^/b/(.*)$"}, to: "/b/x/{1}", inner: again}'
STAYS = '{when: {pattern: "^/b/(.*)$"}, to: "/b/{1}.html", inner: here}'
SENT = f'\nsections: [{{path: /new, redirects: [{{to: "{U}/about.html{{query}}", status: 302}}]}}]'

#: Folders of several names, and who asks for which.
HUTS = """\
folders:
  /srv/huts/hut12: {files: [index.html, in/x.html]}
  /srv/huts/visit.kestrel-ridge.example: {files: [index.html, in/x.html]}
  /srv/huts/visit: {files: [index.html]}
  /srv/huts/example: {files: [index.html]}
  /srv/huts/kestrel-ridge.example: {files: [index.html]}
  /srv/huts/hut12.kestrel-ridge: {files: [index.html]}
  /srv/huts/_: {files: [index.html]}
  /srv/huts/203: {files: [index.html]}
  /srv/huts/kestrel-ridge/12: {files: [index.html]}
"""
WHOSE = ("street", "hut", "other", "upper", "dotted", "ported", "literal", "nobody", "old", "empty")


def led(folder: str, only: tuple[str, ...]) -> dict[str, WebWorld]:
    """A site whose folder the name leads to."""
    huts = f"huts:\n  names: [{N}, '*.kestrel-ridge.example']\n  folder: '/srv/huts/{folder}'\n"
    asked = asks("/ /in/ /in/x.html /in", *WHOSE)
    return many(f"a folder that the name leads to, {folder}", huts, asked, only, machine=HUTS)


#: A mark of a maintenance; the page stands for the status.
KEPT = """\
redirects: [{when: {while_file: /srv/flags/on, none: [{path: /about.html}]}, answer: 503}]
error_pages: {503: /about.html}
"""
FLAGS = "folders: {/srv/flags: {files: [on]}}"
ENDINGS = """\
redirects: [{when: {unless_file: /srv/flags/on}, answer: 503}, {when: {file_at: "{path}.html"}, to: "{path}.html", inner: again}]
"""
#: What the documents of folders are led to, for whom asks for the folder.
DOCUMENTS = f"""\
redirects:
  - {{when: {{path: /index.html}}, to: "{U}/about.html", status: 302}}
  - {{when: {{path: /in/index.html}}, answer: 410}}
  - {{when: {{path: /sorry.html}}, to: "{U}/about.html", status: 302}}
error_pages: {{404: /sorry.html}}
"""
BESIDE = f"""\
{HELD}
tries: ["{{path}}", "{{path}}.html"]
upstream: "http://10.20.0.16:8080"
"""

RULE_WORLDS: dict[str, WebWorld] = {
    **one("rules, one after the other", ruled(GUARDED), asks(PATHS, "street", "putter", "poster")),
    **one("rules in a file", filed(GUARDED), asks(PATHS, "street", "putter"), ("apache",)),
    **one("rules in a file that go round", filed(ROUND), asks("/ /about.html"), ("apache",)),
    **one("rules in a file that lead to themselves", filed(SELF), asks("/about.html /x /"), ("apache",)),
    **one("rules in a file that end", filed(ENDS), asks("/c.html /zz /"), ("apache",)),
    **one("rules of a section that go round", section("/b/", AGAIN), asks("/b/c.html /app.html"), ("nginx",)),
    **one("rules of a section that stay", section("/b/", STAYS), asks("/b/c /b/c.html /b/"), ("nginx",)),
    **one("rules that the next one sees", f"{ruled(SEEN)}sections: [{{path: /about.html, answer: 410}}]", asks("/c /zz /c.html"), ("nginx",)),
    **one("rules that hand on what they matched", ruled(HANDED) + SENT.lstrip(), asks("/a/q%20r?o=1 /k/q%26r?o=1 /a/z /about.html"), ("nginx",)),
    **one("links to files and folders", HELD, asks("/old/ /old/x.html /l.html /gone /old")),
    **one("paths with escapes", ruled(ESCAPED), asks("/cap/b%20c/ /cap//about.html /rest/b%20c/ /s%20p /cap/%61bout.html")),
    **many("a section's folder beside what is passed on", BEHIND, asks("/st/a.css /keep/a.css /x"), BOTH, others=INNER),
    **many(
        "names with stars inside",
        "first:\n  names: [nobody.kestrel-ridge.example]\n  files: [index.html]\n"
        "huts:\n  names: ['h*t*.kestrel-ridge.example', '*r.kestrel-*.example']\n  files: [index.html]\n"
        "rest:\n  names: ['*it.kestrel-ridge.*', 'v**t.kestrel-ridge.example', '*']\n  files: [index.html]\n",
        asks("/", *WHOSE),
        ("apache",),
    ),
    **one(
        "a rule that stays in a section with a folder of its own",
        "sections:\n  - path: /\n    files: [a.html, b.html]\n    redirects: [{when: {path: /a.html}, to: /b.html, inner: here}]",
        asks("/a.html /b.html", "street", "optioner"),
        ("nginx",),
    ),
    **one(
        "a rule before an answer for all",
        'answer: 410\nredirects: [{when: {path: /a}, to: /b, inner: again}]',
        asks("/a /b"),
        ("nginx",),
    ),
    **one(
        "a rule for methods, and a page for a path that is turned away",
        f"{HELD}\nredirects: [{{when: {{not_method: [GET]}}, to: /about.html, status: 307}}]\nerror_pages: {{404: /in/}}",
        asks("/a%2Fb /about.html", "street", "poster"),
    ),
    **one(
        "a file behind a slash",
        f'{HELD}\nredirects: [{{when: {{file: false, pattern: "about"}}, answer: 410}}]',
        asks("/about.html /about.html/ /about"),
    ),
    **one(
        "a page for errors that a rule answers",
        f"{HELD}\nredirects: [{{when: {{path: /a.html}}, answer: 403}}]\nerror_pages: {{404: /a.html}}\n"
        "sections: [{path: /old/, error_pages: {403: /x}}]",
        asks("/nope /old/nope"),
    ),
    **many(
        "a folder that the name leads to, of a site whose first name has a star",
        f"huts:\n  names: ['*.kestrel-ridge.example', {N}]\n  folder: '/srv/huts/{{name}}'\n",
        asks("/ /in", *WHOSE),
        BOTH,
        machine=HUTS,
    ),
    **many(
        "a name with a star at both ends",
        "first:\n  names: [nobody.kestrel-ridge.example]\n  files: [index.html]\n"
        "huts:\n  names: ['*.kestrel-ridge.*']\n  files: [index.html]\n",
        asks("/", *WHOSE),
        ("apache",),
    ),
    **led("{name}", BOTH),
    **led("{label:1}", ("apache",)),
    **led("{label:-1}", ("apache",)),
    **led("{label:2+}", ("apache",)),
    **led("{label:-2+}", ("apache",)),
    **led("{label:7}", ("apache",)),
    **led("{label:2}/{label:1}", ("apache",)),
    **many(
        "folders by the groups of a name",
        "huts:\n  name_patterns: ['^(?:(hut[0-9]+)|other)[.](.+)$']\n  folder: '/srv/huts/{1}'\n",
        asks("/ /in/ /in/x.html /in", *WHOSE),
        ("nginx",),
        machine=HUTS,
    ),
    **many(
        "folders by two groups of a name",
        "huts:\n  names: [visit.kestrel-ridge.example]\n  name_patterns: ['^h(?P<kind>ut)([0-9]+)[.]([a-z-]+)']\n"
        "  folder: '/srv/huts/{3}/{2}'\n",
        asks("/ /in", *WHOSE),
        ("nginx",),
        machine=HUTS,
    ),
    **one("a maintenance", f"{HELD}\n{KEPT}", asks("/ /about.html /in/"), machine=FLAGS),
    **one("no maintenance", f"{HELD}\n{KEPT.replace('flags/on', 'flags/off')}", asks("/ /about.html /in/"), machine=FLAGS),
    **one("an ending that lies there", f"{HELD}\n{ENDINGS}", asks("/about /nope /b/c /about.html"), machine=FLAGS),
    **one("rules for the documents of folders", f"{HELD}\n{DOCUMENTS}", asks("/ /index.html /in/ /in/index.html /nope")),
    **one("files beside what is passed on", BESIDE, asks("/about /about.html /x /in/ /l.html", "street", "poster"), ("nginx",), others=INNER),
}  # fmt: skip
