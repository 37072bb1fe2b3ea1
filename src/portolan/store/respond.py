"""One request at an object store: the bucket, its rules, the right to read, what lies under the key."""

from urllib.parse import quote, unquote

from portolan.estate.base import FolderPath
from portolan.estate.site import Redirect
from portolan.estate.store import Bucket, Store, StoreDoor
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import http as http_kinds
from portolan.evidence.kinds import store as store_kinds
from portolan.evidence.legs import Arrival, Response
from portolan.evidence.request import Request
from portolan.source.place import Place
from portolan.source.shared import Shared
from portolan.source.value import Value
from portolan.store.buckets import Aliases, Keys, Right, asked_bucket, keys_of, right

_METHODS = frozenset(("GET", "HEAD"))


def respond_at_store(
    arrival: Arrival, door: StoreDoor, request: Request, aliases: Aliases, shared: Shared, asker: str = ""
) -> Response:
    """What a store answers at one of its addresses; `asker` is what asks, where no visitor does so by themselves."""
    store, listener = door.store, arrival.listener
    if listener.tls and not request.encrypted:
        return _stop(400, http_kinds.PlainOnTls(listener, place=store.place, subject=store))
    if not request.host:
        return _stop(400, http_kinds.HostRefused(store.name, request.said or "", place=store.place, subject=store))
    method = request.saying.method
    if method not in _METHODS:
        return _stop(405, store_kinds.StoreMethod(door.way, store.name, method, place=store.place, subject=store))
    said = (request.said or "").rpartition(":")[0] if ":" in (request.said or "") else request.said or ""
    if said != said.lower() or said.endswith("."):
        return _stop(404, store_kinds.BucketSpelled(store.name, said, place=store.place, subject=store))
    asked = asked_bucket(door, request, aliases)
    if asked is None:
        # What stands there is the list of somebody's buckets, which nobody is let see; pages have nothing there.
        status = store.denied_with if door.way == "objects" else 404
        return _stop(status, store_kinds.BucketUnsaid(store.name, place=store.place, subject=store))
    if asked.bucket in store.strangers:
        place = store.place.key("strangers")
        theirs = store_kinds.StrangersBucket(asked.bucket, place=place, subject=store)
        return Response(200, (theirs,), page=f"{asked.bucket}{asked.path}")
    bucket = store.buckets.get(asked.bucket)
    if bucket is None:
        missing = store_kinds.BucketMissing(store.name, asked.bucket, place=store.place, subject=store)
        return _stop(404, missing)
    found = store_kinds.BucketAsked(door.way, store.name, bucket.name, asked.by, place=bucket.place, subject=bucket)
    public = "the public"
    if asker:
        why = ", whose requests are not signed" if door.way == "objects" else " at the pages' address"
        public = f"the public (as which {asker} counts{why})"
    serving = _Serving(store, bucket, request, asked.path, keys_of(bucket, shared), [found], public)
    return serving.page() if door.way == "pages" else serving.object()


def _stop(status: int, decision: Decision) -> Response:
    return Response(status, (decision,), stop=decision)


class _Failure(Value, frozen=True):
    """An error before its page is looked for."""

    status: int
    decision: Decision


class _Serving:
    """One bucket answering one request."""

    def __init__(
        self,
        store: Store,
        bucket: Bucket,
        request: Request,
        path: str,
        keys: Keys,
        decisions: list[Decision],
        public: str,
    ) -> None:
        self.store = store
        self.bucket = bucket
        self.request = request
        self.path = path
        self.keys = keys
        self.decisions = decisions
        #: Who is known to ask; at the pages' address nobody is.
        self.who = ""
        #: What anybody is called who is not known.
        self.public = public
        #: The rights that were looked at.
        self._read: dict[str, Right] = {}

    # -- as objects --

    def object(self) -> Response:
        """An object by its key; `/` is the list of the bucket."""
        self.who = self.request.saying.signed_by
        key = unquote(self.path[1:])
        if not key:
            return self._list()
        failure = self._barred(key) or self._absent(key)
        return self._failed(failure) if failure is not None else self._given(key)

    def _list(self) -> Response:
        allowed = self._right("list", None)
        if not allowed.allowed:
            facts = (self.bucket.name, self._asker)
            denied = store_kinds.ListDenied(*facts, place=self._grants, subject=self.bucket)
            return self._failed(_Failure(self.store.denied_with, denied))
        assert allowed.grant is not None
        step = store_kinds.Listing(self.bucket.name, place=allowed.grant.place, subject=self.bucket)
        return self._response(200, step, page=f"{self.bucket.name}/")

    # -- as pages --

    def page(self) -> Response:
        """A page: redirects, index files, the slash of folders, the error document."""
        bucket, store = self.bucket, self.store
        if not bucket.web and store.web_off == "not-found":
            off = store_kinds.WebOff(bucket.name, place=bucket.place.key("web"), subject=bucket)
            return self._failed(_Failure(404, off))
        if bucket.sends_all_to is not None:
            return self._all_sent(bucket.sends_all_to)
        key = unquote(self.path[1:])
        if store.redirects_first:
            sent = self._ruled(key, None)
            if sent is not None:
                return sent
        if self.path.endswith("/"):
            key += bucket.index_file
            step = store_kinds.StoreIndex(bucket.name, key, place=bucket.place.key("index_file"), subject=bucket)
            self.decisions.append(step)
        needs_list = store.index_needs_list and self.path == "/"
        failure = self._barred(key)
        if failure is None and key in bucket.object_redirects:
            return self._object_sent(key, str(bucket.object_redirects[FolderPath(key)]))
        failure = failure or self._absent(key) or (self._unlisted() if needs_list else None)
        if failure is None:
            return self._given(key)
        slash = None if self.path.endswith("/") else self._slashless(key)
        return slash or self._with_document(unquote(self.path[1:]), failure)

    def _object_sent(self, key: str, to: str) -> Response:
        """An object that is only there to send elsewhere."""
        target = f"{self.request.scheme}://{self.request.shown_host}{to}" if to.startswith("/") else to
        place = self.bucket.place.key("object_redirects")
        step = store_kinds.ObjectSends(key, self.bucket.name, target, place=place, subject=self.bucket)
        return self._response(301, step, location=target)

    def _all_sent(self, to: str) -> Response:
        scheme, there, name = to.rpartition("://")
        target = f"{scheme if there else self.request.scheme}://{name}{self.path}"
        place = self.bucket.place.key("sends_all_to")
        step = store_kinds.SendsAll(self.bucket.name, target, 301, place=place, subject=self.bucket)
        return self._response(301, step, location=target)

    def _ruled(self, key: str, status: int | None) -> Response | None:
        """The first redirect that fits: without a status before the key is looked for, with one behind it."""
        for rule in self.bucket.redirects:
            wanted = rule.when.status if rule.when is not None else None
            early = wanted is None and self.store.redirects_first
            if early is not (status is None) or (wanted not in (None, status)):
                continue
            rest = rule.when.rest_of(f"/{key}") if rule.when is not None else ""
            if rest is not None:
                return self._rule_sent(rule, key, rest)
        return None

    def _rule_sent(self, rule: Redirect, key: str, rest: str) -> Response:
        """Sent by a rule: parts of the path are encoded again, a target without a scheme is at the address asked."""
        scheme, host = self.request.scheme, self.request.shown_host
        target = rule.target({"scheme": scheme, "host": host, "path": f"/{quote(key)}", "rest": quote(rest)})
        if target.startswith("/"):
            target = f"{scheme}://{host}{target}"
        facts = (self.bucket.name, target, rule.status)
        step = store_kinds.StoreRuleTaken(*facts, place=rule.place, subject=rule)
        return self._response(rule.status, step, location=target)

    def _slashless(self, key: str) -> Response | None:
        """A folder that is asked without its slash: no key itself, and with an index file behind it."""
        document = f"{key}/{self.bucket.index_file}"
        if not key or self.keys.holds(key) or not self.keys.holds(document) or self._barred(document) is not None:
            return None
        if self.store.slashless == "page":
            return self._given(document)
        relative = self.store.slashless == "relative"
        status, behind = (302 if relative else 301), f"{self.path}/"
        target = behind if relative else f"{self.request.scheme}://{self.request.shown_host}{behind}"
        facts = (key, self.bucket.name, target, status)
        return self._response(
            status, store_kinds.StoreSlash(*facts, place=self.store.place, subject=self.bucket), location=target
        )

    def _with_document(self, key: str, failure: _Failure) -> Response:
        """An error with the rules and the document that stand for it; its status stays."""
        self.decisions.append(failure.decision)
        sent = self._ruled(key, failure.status)
        if sent is not None:
            return sent
        bucket = self.bucket
        document = bucket.error_documents.get(failure.status, bucket.error_document)  # type: ignore[call-overload]
        if document is not None:
            place = bucket.place.key("error_document")
            why = self._barred(document) or self._absent(document)
            step: Decision = (
                store_kinds.StoreErrorDocument(bucket.name, document, failure.status, place=place, subject=bucket)
                if why is None
                else store_kinds.StoreErrorMissing(
                    document, bucket.name, why.decision.text, place=place, subject=why.decision
                )
            )
            self.decisions.append(step)
        return Response(
            failure.status, tuple(self.decisions), bucket, stop=failure.decision, cache_control=self._cache_control
        )

    # -- rights and keys --

    @property
    def _asker(self) -> str:
        return f"the edge {self.who}" if self.who else self.public

    @property
    def _grants(self) -> Place:
        return self.bucket.place.key("grants")

    def _right(self, what: str, key: str | None) -> Right:
        return right(self.store, self.bucket, what, key, self.who)

    def _barred(self, key: str) -> _Failure | None:
        """Why a key may not be read."""
        allowed, bucket = self._right("read", key), self.bucket
        self._read[key] = allowed
        if allowed.allowed:
            return None
        if allowed.sealed:
            sealed = store_kinds.Sealed(bucket.name, place=bucket.place.key("sealed"), subject=bucket)
            return _Failure(self.store.denied_with, sealed)
        facts = (self._asker, key, bucket.name)
        if allowed.denied and allowed.grant is not None:
            forbidden = store_kinds.GrantDenies(*facts, place=allowed.grant.place, subject=bucket)
            return _Failure(self.store.denied_with, forbidden)
        return _Failure(self.store.denied_with, store_kinds.NotReadable(*facts, place=self._grants, subject=bucket))

    def _absent(self, key: str) -> _Failure | None:
        """Why a key that may be read gives nothing: 404 only to who may list the bucket."""
        if self.keys.holds(key):
            return None
        bucket, place = self.bucket, self._held_at
        if self._right("list", None).allowed or self.store.missing_unlisted == 404:
            return _Failure(404, store_kinds.KeyMissing(bucket.name, key, place=place, subject=bucket))
        facts = (bucket.name, key, self._asker)
        return _Failure(self.store.missing_unlisted, store_kinds.KeyHidden(*facts, place=place, subject=bucket))

    def _unlisted(self) -> _Failure | None:
        if self._right("list", None).allowed:
            return None
        facts = (self.bucket.name, self._asker)
        return _Failure(self.store.denied_with, store_kinds.ListDenied(*facts, place=self._grants, subject=self.bucket))

    @property
    def _held_at(self) -> Place:
        place = self.bucket.place
        return next((place.key(key) for key in ("objects", "copy", "inventory") if place.has(key)), place)

    @property
    def _cache_control(self) -> str:
        return self.bucket.cache_control or ""

    def _given(self, key: str) -> Response:
        bucket, grant = self.bucket, self._read[key].grant if key in self._read else self._right("read", key).grant
        if grant is not None:
            who = "everyone" if grant.to == "everyone" else self._asker
            self.decisions.append(store_kinds.Granted(who, key, bucket.name, place=grant.place, subject=bucket))
        if not bucket.told:
            self.decisions.append(store_kinds.ObjectAssumed(bucket.name, key, place=bucket.place, subject=bucket))
        step = store_kinds.ObjectGiven(key, bucket.name, place=self._held_at, subject=bucket)
        return self._response(200, step, page=f"{bucket.name}/{key}")

    def _response(self, status: int, step: Decision, page: str | None = None, location: str | None = None) -> Response:
        return Response(
            status,
            (*self.decisions, step),
            self.bucket,
            page,
            location,
            cache_control=self._cache_control if status < 300 else "",
        )

    def _failed(self, failure: _Failure) -> Response:
        return Response(failure.status, (*self.decisions, failure.decision), self.bucket, stop=failure.decision)
