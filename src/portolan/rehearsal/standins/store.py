"""Plays an address of an object store, by the facts that are handed to it: the paper's table "Object store"."""

import contextlib
import socket
import sys
import threading
from typing import Any
from urllib.parse import quote, unquote

from portolan.rehearsal.standins.wire import SIGNED, Asked, Given, facts_of, loaded, serve, wild


class Store:
    """One address of an object store: paper's table "Object store"."""

    def __init__(self, facts: dict[str, Any]) -> None:
        self.facts = facts
        self.pages = facts["way"] == "pages"

    def answer(self, asked: Asked) -> Given:
        """What it says."""
        facts = self.facts
        if not asked.host:
            return Given(400)
        if asked.method not in ("GET", "HEAD"):
            return Given(405)
        if asked.said != asked.said.lower() or asked.said.endswith("."):
            return Given(404)
        named = self.bucket_of(asked)
        if named is None:
            return Given(404 if self.pages else facts["denied_with"])
        name, path = named
        if name in facts["strangers"]:
            return Given(200, f"{name}{path}")
        bucket = facts["buckets"].get(name)
        if bucket is None:
            return Given(404)
        return self.page(asked, bucket, name, path) if self.pages else self.object(asked, bucket, name, path)

    def bucket_of(self, asked: Asked) -> tuple[str, str] | None:
        """The bucket's name and the path in it."""
        at = self.facts["at"]
        under = asked.host.endswith("." + at)
        for way in self.facts["by"]:
            if way == "label" and under:
                return asked.host.removesuffix("." + at), asked.path
            if way == "name" and not under and asked.host != at:
                return asked.host, asked.path
            if way == "path" and asked.host == at and len(asked.path) > 1:
                first, _, rest = asked.path[1:].partition("/")
                if first:
                    return first, "/" + rest
            if way == "alias" and asked.host != at:
                with contextlib.suppress(OSError):
                    known = socket.getaddrinfo(asked.host, 80, type=socket.SOCK_STREAM, flags=socket.AI_CANONNAME)[0][3]
                    if known.endswith("." + at):
                        return known.removesuffix("." + at), asked.path
        return None

    def may(self, bucket: dict[str, Any], what: str, named: str, who: str) -> bool:
        """Whether a grant allows it, none forbids it, and no seal beats that grant."""
        allowed = False
        for grant in bucket["grants"]:
            everyone = grant["to"] == "everyone"
            if what not in grant["may"] or not (everyone or (who and grant["to_edge"] == who)):
                continue
            if grant["on"] and not any(wild(each).fullmatch(named) for each in grant["on"]):
                continue
            if grant["denies"]:
                return False
            if everyone and bucket["sealed"] and self.facts["seal"] == "beats-grants":
                continue
            allowed = True
        return allowed

    def look(self, bucket: dict[str, Any], name: str, key: str, who: str) -> int:
        """The status for a key: 200, or why not."""
        if not self.may(bucket, "read", f"{name}/{key}", who):
            return int(self.facts["denied_with"])
        if self.there(bucket, key):
            return 200
        return 404 if self.may(bucket, "list", name, who) else int(self.facts["missing_unlisted"])

    @staticmethod
    def there(bucket: dict[str, Any], key: str) -> bool:
        """Whether an object lies under a key."""
        held = bucket["objects"]
        return held is None or key in held or any("*" in each and wild(each).fullmatch(key) for each in held)

    def object(self, asked: Asked, bucket: dict[str, Any], name: str, path: str) -> Given:
        """By key; who signed is known."""
        who, key = asked.headers.get(SIGNED, ""), unquote(path[1:])
        if not key:
            allowed = self.may(bucket, "list", name, who)
            return self.found(bucket, f"{name}/") if allowed else Given(int(self.facts["denied_with"]))
        status = self.look(bucket, name, key, who)
        return self.found(bucket, f"{name}/{key}") if status == 200 else Given(status)

    @staticmethod
    def found(bucket: dict[str, Any], page: str) -> Given:
        """A page or an object."""
        return Given(200, page, {"Cache-Control": bucket["cache_control"]} if bucket["cache_control"] else {})

    def page(self, asked: Asked, bucket: dict[str, Any], name: str, path: str) -> Given:
        """As pages: nobody is known."""
        if not bucket["web"] and self.facts["web_off"] == "not-found":
            return Given(404)
        if bucket["sends_all_to"]:
            to = bucket["sends_all_to"]
            target = f"{to if '://' in to else asked.scheme + '://' + to}{path}"
            return Given(301, "", {"Location": target})
        key = unquote(path[1:])
        first = self.facts["redirects_first"]
        sent = self.ruled(asked, key, [rule for rule in bucket["redirects"] if rule["on_status"] is None and first])
        if sent is not None:
            return sent
        wanted = key + bucket["index_file"] if path.endswith("/") else key
        if wanted in bucket["object_redirects"] and self.may(bucket, "read", f"{name}/{wanted}", ""):
            to = bucket["object_redirects"][wanted]
            return Given(301, "", {"Location": f"{asked.scheme}://{asked.host}{to}" if to.startswith("/") else to})
        status = self.look(bucket, name, wanted, "")
        if status == 200 and path == "/" and self.facts["index_needs_list"] and not self.may(bucket, "list", name, ""):
            status = int(self.facts["denied_with"])
        if status == 200:
            return self.found(bucket, f"{name}/{wanted}")
        inside = f"{key}/{bucket['index_file']}"
        if (
            key
            and not path.endswith("/")
            and not self.there(bucket, key)
            and self.look(bucket, name, inside, "") == 200
        ):
            way = self.facts["slashless"]
            if way == "page":
                return self.found(bucket, f"{name}/{inside}")
            target = f"{path}/" if way == "relative" else f"{asked.scheme}://{asked.host}{path}/"
            return Given(302 if way == "relative" else 301, "", {"Location": target})
        late = [
            rule
            for rule in bucket["redirects"]
            if rule["on_status"] == status or (rule["on_status"] is None and not first)
        ]
        return self.ruled(asked, key, late) or Given(status, "an error's page")

    @staticmethod
    def ruled(asked: Asked, key: str, rules: list[dict[str, Any]]) -> Given | None:
        """The first redirect rule that fits a key."""
        for rule in rules:
            path, wanted = f"/{key}", rule["path"] or "/*"
            begins = wanted.endswith("*")
            if path != wanted and not (begins and path.startswith(wanted[:-1])):
                continue
            rest = path[len(wanted) - 1 :] if begins else ""
            where = rule["to"]
            for part, said in (
                ("scheme", asked.scheme),
                ("host", asked.host),
                ("path", quote(path)),
                ("rest", quote(rest)),
            ):
                where = where.replace("{" + part + "}", said)
            if where.startswith("/"):
                where = f"{asked.scheme}://{asked.host}{where}"
            return Given(rule["status"], "", {"Location": where})
        return None


def main() -> None:
    """Plays what the facts say, until the stage ends."""
    facts = facts_of(sys.argv)
    serve(facts, Store(facts).answer, loaded(facts["certificate"]) if facts["certificate"] else None)
    threading.Event().wait()
