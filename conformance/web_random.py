"""Random worlds of sites, sections, folders with rights, fronts and redirects; the same seed draws the same ones."""

import json
import random
import re
from typing import Any

from conformance.web_common import VISITORS, WebWorld

PROGRAMS = ("nginx", "apache")
NAMES = ("visit", "other", "desk", "rooms")
FOLDERS = ("", "sub", "app", "sub/deep", "img")
FILES = ("index.html", "a.html", "index.htm", "x.jpg")
PATHS = (
    "/", "/a.html", "/sub", "/sub/", "/sub/a.html", "/app", "/app/", "/app/a.html", "/application", "/sub/deep/", "/sub/deep",
    "/img/x.jpg", "/img/", "/nope", "/nope/", "/old/a", "/old/b/c?x=1", "/rooms/7", "/to", "/to/index.html", "/a.html/", "/sub//a.html",
    "/app/x.jpg", "/sub/index.html", "/index.html", "/status", "/%61.html", "/app/../a.html", "/a%2Fb",
)  # fmt: skip
ASKERS = (
    "street",
    "street",
    "street",
    "poster",
    "member",
    "header",
    "optioner",
    "secure",
    "plain",
    "oldnamed",
    "dotted",
    "other",
    "deleter",
)
RIGHTS = (
    "0644 root:root",
    "0755 root:root",
    "0600 root:root",
    "0640 root:www-data",
    "0400 www-data:root",
    "0711 root:root",
    "0750 root:www-data",
    "0700 root:root",
    "0044 www-data:root",
)
INNER = "http://10.20.0.16:8080"


class Draw:
    """One world being drawn."""

    def __init__(self, seed: int) -> None:
        self.seed = seed
        self.random = random.Random(seed)
        self.program = self.random.choice(PROGRAMS)
        self.machine_folders: dict[str, Any] = {}

    def chance(self, of: int) -> bool:
        """One in so many."""
        return self.random.randrange(of) == 0

    def holding(self) -> dict[str, Any]:
        """What a folder holds."""
        files = sorted(
            {f"{folder}/{file}".lstrip("/") for folder in FOLDERS for file in FILES if self.random.randrange(5) < 2}
            | ({"empty/"} if self.chance(4) else set())
        )
        found: dict[str, Any] = {"files": files or ["index.html"]}
        there = [
            *files,
            *(each for each in FOLDERS if each and any(name.startswith(each + "/") for name in files)),
            ".",
        ]
        if self.chance(3):
            found["rights"] = {
                self.random.choice(there).rstrip("/"): self.random.choice(RIGHTS)
                for _ in range(self.random.randint(1, 3))
            }
        if self.chance(8):
            found["unreadable"] = [
                self.random.choice([each for each in there if each != "."] or ["index.html"]).rstrip("/")
            ]
        if self.chance(6):
            found["links"] = {"to": self.random.choice(["a.html", "sub", "gone", "sub/../a.html", "/srv/shared"])}
        return found

    def content(self, giving: dict[str, Any], section: bool) -> None:
        """Where pages come from."""
        if not section and self.chance(4):
            name = self.random.choice(["/srv/visit", "/srv/visit", "/srv/visit/sub", "/srv/visti"])
            giving["folder"] = name
            if "/srv/visit" not in self.machine_folders:
                self.machine_folders["/srv/visit"] = self.holding()
            return
        giving.update(self.holding())
        if self.chance(5):
            giving["folder"] = f"/srv/own{self.random.randrange(100)}"

    def upstream(self) -> Any:
        """The program behind."""
        path = self.random.choice(["", "", "", "/", "/app", "/app/", "/sub/"])
        where = self.random.choice(
            [INNER, INNER, INNER, "http://inner.kestrel-ridge.example:8080", "http://10.20.0.16:8099"]
        )
        if self.chance(3):
            return where + path
        found: dict[str, Any] = {"to": where + path}
        if self.chance(2):
            found["host"] = self.random.choice(["kept", "kept", "own", "inner.kestrel-ridge.example"])
        if self.chance(3):
            found["turns_redirects"] = self.random.choice([True, False])
        if self.chance(3):
            found["headers"] = {"X-Forwarded-Proto": self.random.choice(["{scheme}", "https"])}
        if self.chance(4):
            found["replaces_errors"] = True
        return found

    def access(self) -> dict[str, Any]:
        """Who is let in."""
        found: dict[str, Any] = {}
        kind = self.random.randrange(5)
        if kind == 0:
            found["nobody"] = True
        if kind in (1, 2):
            found["from" if kind == 1 else "not_from"] = self.random.choice(
                ["198.51.100.0/24", "192.0.2.0/24", "10.0.0.0/8"]
            )
        if kind in (3, 4) or self.chance(3):
            found["password"] = True
        if found.get("password") and self.chance(2):
            found["either"] = True
        return found

    def redirects(self) -> list[dict[str, Any]]:
        """Rules."""
        found = []
        for _ in range(self.random.randint(1, 2)):
            when: dict[str, Any] = {}
            kind = self.random.randrange(6)
            if kind == 0:
                when["path"] = self.random.choice(["/old/a", "/a.html", "/app"])
            if kind == 1:
                when["path"] = self.random.choice(["/old/*", "/sub/*"])
            if kind == 2:
                when["pattern"] = self.random.choice(["^/rooms/([0-9]+)$", "^/old/(.*)$", "deep"])
            if kind == 3:
                when["not_header"] = {"X-Forwarded-Proto": "https"}
            if kind == 4:
                when["host"] = self.random.choice(["visit.kestrel-ridge.example", "*.kestrel-ridge.example", "other.*"])
            if kind == 5 or self.chance(3):
                when["scheme"] = self.random.choice(["http", "https"])
            if self.chance(8):
                when[self.random.choice(["query", "not_query"])] = self.random.choice(["^$", "a=", "(^|&)x(&|$)"])
            targets = [
                "/a.html",
                "/sub/",
                "https://{host}{path}{query}",
                "http://other.kestrel-ridge.example{path}",
                "sub/a.html",
            ]
            if str(when.get("path", "")).endswith("*"):
                targets += ["/app/{rest}", "/new/{rest}{query}"]
            if "(" in str(when.get("pattern", "")):
                targets += ["/app/{1}", "/sub/{1}{query}"]
            rule: dict[str, Any] = {
                "to": self.random.choice(targets),
                "status": self.random.choice([301, 302, 307, 308, 303]),
            }
            if when:
                rule["when"] = when
            if "{query}" not in rule["to"] and self.chance(3):
                rule["query"] = self.random.choice(["joined", "unless-own"])
            if self.chance(4):
                self.further(rule.setdefault("when", {}))
            if self.chance(5):
                rule = {"when": rule.get("when", {"path": "/app/*"}), "answer": self.random.choice([403, 404, 410])}
            elif self.chance(4):
                rule = self.inner(rule)
            found.append(rule)
        return found

    def further(self, when: dict[str, Any]) -> None:
        """A further condition: what lies there, the method, a field, one of several, none of several."""
        simple = [
            {"file": self.random.choice([True, False])},
            {"folder": self.random.choice([True, False])},
            {"file": False, "folder": False},
            {"method": self.random.choice([["GET"], ["POST"], ["GET", "POST"]])},
            {"not_method": self.random.choice([["GET"], ["POST", "OPTIONS"]])},
            {"fits_header": {"X-Forwarded-Proto": self.random.choice(["^https$", "s?", "^$"])}},
            {"path": self.random.choice(["/sub/*", "/a.html", "/app"])},
        ]
        kind = self.random.randrange(4)
        if kind < 2:
            when.update(self.random.choice(simple[:-1]))
        else:
            when["any" if kind == 2 else "none"] = self.random.sample(simple, 2)

    def inner(self, rule: dict[str, Any]) -> dict[str, Any]:
        """The same rule, for a request that goes on within the server."""
        when = rule.get("when", {})
        targets = ["/a.html", "/sub/a.html", "/app/", "/nope", "/sub"]
        if str(when.get("path", "")).endswith("*"):
            targets += ["/app/{rest}", "/sub/{rest}?x=1"]
        if "(" in str(when.get("pattern", "")):
            targets += ["/app/{1}", "/sub/{1}?y={1}"]
        how = ["again", "again", "here", *(["on"] if self.program == "nginx" else [])]
        found = {"to": self.random.choice(targets), "inner": self.random.choice(how)}
        if self.chance(3):
            found["query"] = self.random.choice(["joined", "unless-own"])
        return found | ({"when": when} if when else {})

    def common(self, giving: dict[str, Any], section: bool) -> None:
        """What a site and a section may say alike."""
        kind = self.random.randrange(8)
        if kind < 4:
            self.content(giving, section)
        elif kind < 6:
            giving["upstream"] = self.upstream()
        elif kind == 6:
            giving["answer"] = self.random.choice([200, 204, 403, 404, 410, 503])
        elif not section:
            self.content(giving, section)
        if "upstream" not in giving and "answer" not in giving:
            if self.chance(4):
                giving["listing"] = self.random.choice([True, False])
            if self.chance(5):
                giving["index_files"] = self.random.choice([["index.htm"], ["index.htm", "index.html"], ["a.html"]])
            if self.chance(7) and not section:
                giving["fallback"] = self.random.choice(["a.html", "gone.html"])
            # Apache httpd and folders that may not be searched: known to differ (docs/rehearsal.md).
            closed = self.program == "apache" and {"unreadable", "rights"} & set(giving)
            if self.chance(6) and not section and not closed:
                giving["tries"] = self.random.sample(
                    ["{path}", "{path}.html", "{path}/", "{path}/index.html", "/a.html"], 3
                )
        if self.chance(5):
            giving["access"] = self.access()
        if self.chance(7):
            giving["methods"] = self.random.choice([["GET"], ["GET", "POST"]])
        if self.chance(4):
            giving["redirects"] = self.redirects()
        if self.chance(4):
            page = self.random.choice(
                ["/a.html", "/gone.html", "/sub/index.html", "http://other.kestrel-ridge.example/x"]
            )
            giving["error_pages"] = {str(status): page for status in self.random.sample([403, 404, 502, 503], 2)}
            if page.startswith("/") and self.program == "nginx" and self.chance(3):
                giving["error_pages_as"] = {status: self.random.choice([200, 410]) for status in giving["error_pages"]}

    def site(self, number: int) -> dict[str, Any]:
        """One site."""
        names = self.random.choice([[NAMES[number]], [NAMES[number], NAMES[number + 1]], ["*"], []])
        site: dict[str, Any] = {"names": [f"{name}.kestrel-ridge.example" for name in names]}
        self.common(site, False)
        if self.chance(3):
            site["sections"] = [self.section() for _ in range(self.random.randint(1, 3))]
            if any(_untried(each, self.program) for each in site["sections"]):
                # Neither server can be told to try files before that.
                site.pop("tries", None)
        if self.chance(6):
            own = self.program != "apache" or any(name not in ("*", "") for name in names)
            ways = [
                "asked-host",
                *(["own-address"] if own else []),
                *(["path-only"] if self.program != "apache" else []),
            ]
            site["redirects_to"] = self.random.choice(ways)
        if self.program == "apache" and not {"upstream", "sections"} & set(site) and self.chance(5):
            rule: dict[str, Any] = {"in": ""}
            what = self.random.choice(["access", "redirects", "broken"])
            rule[what] = "x" if what == "broken" else self.access() if what == "access" else self.redirects()
            for each in rule.get("redirects", ()):
                each["to"] = re.sub(r"^sub/", "/sub/", each.get("to", "")) or each.pop("to", "") or None
                if each["to"] is None:
                    del each["to"]
            site.update({"rule_files": [rule], "reads_rule_files": self.random.choice([True, True, False])})
            site.pop("access", None)
        if self.program == "apache":
            # Rules of sections stand beside the site's on the stage, where what goes on within comes last.
            beside = any("redirects" in each or "answer" in each for each in site.get("sections", ()))
            for giving in site.get("sections", ()):
                giving["redirects"] = [each for each in giving.get("redirects", ()) if "inner" not in each]
            if beside and "redirects" in site:
                site["redirects"] = [each for each in site["redirects"] if "inner" not in each]
            for section in site.get("sections", ()):
                if {"folder", "files"} & set(section) and self.chance(2):
                    section["not_passed_on"] = True
        seen = set()
        for each in list(site.get("sections", ())):
            key = (each.get("path"), each.get("exact"))
            if key in seen and "pattern" not in each and self.program == "apache":
                site["sections"].remove(each)
            seen.add(key)
        upstream = site.get("upstream")
        if isinstance(upstream, dict) and any("upstream" in each for each in site.get("sections", ())):
            upstream.pop("headers", None)
        inherits = [each for each in site.get("sections", ()) if each.pop("pattern_of", False) and "pattern" in each]
        if inherits and isinstance(upstream, str | dict):
            site["upstream"] = INNER
        if "upstream" in site or "answer" in site:
            for each in site.get("sections", ()):
                for key in ("listing", "index_files"):
                    if "files" not in each and "folder" not in each:
                        each.pop(key, None)
        return site

    def section(self) -> dict[str, Any]:
        """One section."""
        section: dict[str, Any] = {}
        kind = self.random.randrange(6)
        if kind < 4:
            section["path"] = self.random.choice(["/app", "/app/", "/sub/", "/sub/deep", "/img/", "/"])
        elif kind == 4:
            section["exact"] = self.random.choice(["/status", "/a.html", "/app"])
        else:
            section["pattern"] = self.random.choice(["[.]jpg$", "^/sub", "a"])
        self.common(section, True)
        if "pattern" in section or "exact" in section:
            for key in ("files", "rights", "unreadable", "links", "folder", "listing", "index_files"):
                section.pop(key, None)
            upstream = section.get("upstream")
            if "pattern" in section and upstream is not None:
                section["upstream"] = INNER
            section["pattern_of"] = True
        return section

    def newer(self, orion: dict[str, Any], sites: dict[str, Any], behind: dict[str, Any]) -> list[str]:
        """Words that came later, drawn with dice of their own, so that the older worlds stay as they are; what is asked for them."""
        before, self.random = self.random, random.Random(f"newer {self.seed}")
        asked: list[str] = []
        site = sites[self.random.choice(sorted(sites))]
        own = not {"upstream", "answer", "rule_files", "tries", "fallback"} & set(site)
        name = f"{self.random.choice(NAMES[:3])}.kestrel-ridge.example"
        kind = self.random.randrange(9)
        if kind == 0 and own and not {"redirects", "methods"} & set(site):
            asked += self.led(site, name)
        elif kind == 1 and "files" in site:
            site["files"] = [*site["files"], "x.php", "sub/y.php"]
            site.setdefault("sections", []).append({"pattern": "[.]php$", "scripts_at": "10.20.0.16:9000"})
            if not self.chance(4):
                behind["runner"] = {"kind": "scripts", "listens": ["9000"]}
            asked += [f"http://{name}{path}" for path in ("/x.php", "/sub/y.php", "/gone.php", "/x.php/more")]
        elif kind == 2 and "rule_files" not in site:
            live = {"to": "http://10.20.0.16:7007/", "upgrades": not self.chance(4)}
            site["sections"] = [each for each in site.get("sections", []) if each.get("path") != "/"]
            site["sections"].append({"path": "/live/", "upstream": live})
            behind["sockets"] = {"kind": "other", "listens": ["7007"], "when_asked": "websocket"}
            asked += [f"ws://{name}/live/x", f"http://{name}/live/x", f"ws://{name}/a.html"]
        if self.machine_folders:
            orion["folders"] = self.machine_folders
        self.random = before
        return asked

    def led(self, site: dict[str, Any], name: str) -> list[str]:
        """A site whose folder the name leads to."""
        for key in ("files", "rights", "unreadable", "links", "folder"):
            site.pop(key, None)
        words = ["{name}", "{label:1}", "{label:2}", "{label:-2}", "{label:1}/{label:2+}"]
        word = "{name}" if self.program == "nginx" else self.random.choice(words)
        if self.program == "nginx" and self.chance(2):
            site["names"], word = [], "{1}"
            site["name_patterns"] = [self.random.choice(["^([a-z]+)[.](?:.+)$", "^(visit|desk)", "(.*)"])]
        labels = name.split(".")
        for folder in dict.fromkeys((name, labels[0], labels[1], f"{labels[0]}/{'.'.join(labels[1:])}")):
            held = self.holding()
            held.pop("links", None)
            self.machine_folders[f"/srv/led/{folder}"] = held
        # One of them lies within another's.
        self.machine_folders.pop(
            f"/srv/led/{labels[0]}" if "/" in word else f"/srv/led/{labels[0]}/{'.'.join(labels[1:])}"
        )
        site["folder"] = f"/srv/led/{word}"
        return [f"http://{name}{self.random.choice(PATHS)}" for _ in range(3)]


def _untried(section: dict[str, Any], program: str) -> bool:
    """Whether a section passes on in a way before which files cannot be tried: with a path at nginx, at all at httpd."""
    passed = section.get("upstream")
    first = passed.get("to") if isinstance(passed, dict) else passed
    first = first[0] if isinstance(first, list) else first
    return passed is not None and (program == "apache" or str(first).count("/") > 2)


def drawn(seed: int, plainly: bool = False) -> WebWorld:
    """One world and its questions; `plainly`: as visitors ask who say nothing of their own, such as browsers."""
    draw = Draw(seed)
    random_ = draw.random
    sites = {f"s{number}": draw.site(number) for number in range(random_.randint(1, 3))}
    secure = draw.chance(4)
    web: dict[str, Any] = {"program": draw.program, "listens": ["80", "443 tls"] if secure else ["80"], "sites": sites}
    if secure:
        web["certificate"] = "all"
    if draw.program == "apache" and draw.chance(5):
        web["grants"] = [random_.choice(["/srv", "/srv/visit", "/var/www"])]
        for site in sites.values():
            for giving in (site, *site.get("sections", ())):
                giving.pop("access", None)
                if "files" in giving and "folder" not in giving:
                    giving["folder"] = random_.choice(["/srv/visit", "/srv/other", "/var/www/x"])
            site.pop("rule_files", None)
            site.pop("reads_rule_files", None)
    if draw.chance(6):
        web["runs_in"] = ["staff"]
    behind: dict[str, Any] = {"program": random_.choice(PROGRAMS), "listens": ["8080"], "sites": {}}
    for number, name in enumerate(("inner", "visit", "other")):
        held = {"names": [f"{name}.kestrel-ridge.example"], **draw.holding()}
        if draw.chance(2):
            held["redirects"] = draw.redirects()
            for rule in held["redirects"]:
                if rule.get("inner") == "on" and behind["program"] == "apache":
                    rule["inner"] = "again"
        behind["sites"][f"b{number}"] = held
    orion: dict[str, Any] = {
        "interfaces": {"line": {"network": "internet", "address": "203.0.113.40"}, "dome": {"address": "10.20.0.15"}},
        "services": {"web": web},
    }
    inner: dict[str, Any] = {"inner": behind}
    more = draw.newer(orion, sites, inner)
    askers = [0, 0] if plainly else random_.sample(range(len(ASKERS)), 2)
    asked = []
    names = [f"{name}.kestrel-ridge.example" for name in NAMES[:3]]
    for _ in range(6):
        scheme = random_.choice(["http", "https"]) if secure else "http"
        asked.append((f"{scheme}://{random_.choice(names)}{random_.choice(PATHS)}", ASKERS[random_.choice(askers)]))
    asked = list(
        dict.fromkeys([*asked, *((url, ASKERS[askers[0]] if "/live/" not in url else "street") for url in more)])
    )
    vantages: dict[str, Any] = {}
    for number, name in enumerate(dict.fromkeys(vantage for _, vantage in asked)):
        vantages[name] = {"network": "internet", "address": f"198.51.100.{number + 10}"}
    estate = {
        "portolan": 1,
        "at": "2026-03-14T20:00:00Z",
        "networks": {"dome": {"subnets": ["10.20.0.0/24"]}},
        "hosts": {
            "orion": orion,
            "vega": {"interfaces": {"dome": {"address": "10.20.0.16"}}, "services": inner},
        },
        "certificates": {"all": {"names": ["*.kestrel-ridge.example"], "from": "2026-01-01", "until": "2026-06-01"}},
        "zones": {"kestrel-ridge.example": {"records": ["* 60 A 203.0.113.40", "inner 60 A 10.20.0.16"]}},
        "vantages": vantages,
    }
    text = json.dumps(estate, indent=1)
    for name in vantages:
        said = VISITORS[name]
        address = f'"address": "{vantages[name]["address"]}"'
        if said:
            text = text.replace(address, f"{address}, {said}")
    return WebWorld(text, asked)
