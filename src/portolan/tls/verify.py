"""What a visitor checks: the chain to an anchor, use, strength, the time at its clock, constraints and names.

The verdict on a chain of PEM certificates is OpenSSL's, in whose order complaints come; a browser sees the same with rules of
its own. The explanation is ours: which certificate of which path fails which rule.
"""

from collections.abc import Callable, Iterator
from datetime import datetime
from functools import lru_cache
from ipaddress import ip_address
from typing import Any, NamedTuple, Protocol

from portolan.estate.base import IPAddress, is_address
from portolan.estate.certificate import Certificate
from portolan.estate.client import Checks, Client
from portolan.estate.estate import Estate
from portolan.estate.vantage import Vantage
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import tls as tls_kinds
from portolan.evidence.legs import Handshake
from portolan.evidence.outcome import Detail
from portolan.source.shared import Shared
from portolan.tls import browsers
from portolan.tls.facts import Facts, Shown, authority_every, shown_by

_MOST_LINKS = 10
#: So many paths a browser looks at.
_MOST_PATHS = 64

#: Whether an address gives what it should, asked as the client asks; None where nobody describes the place.
Fetches = Callable[[str], bool | None]


class Once(Protocol):
    """Gives what it was given before for the same client and certificate, else what is made now."""

    def __call__(self, client: Client, certificate: Certificate, follow: "Callable[[], _Chain]") -> "_Chain":
        """Where the chain leads."""


def covers(pattern: str, host: str, literal: IPAddress | None) -> bool:
    """Whether a certificate's name covers a host (RFC 9525 section 6.3): exact, or a whole left-most label."""
    if literal is not None:
        try:
            return ip_address(pattern) == literal
        except ValueError:
            return False
    pattern, host = pattern.lower().rstrip("."), host.lower().rstrip(".")
    if pattern.startswith("*."):
        # A star needs two labels below it, at every client that was asked.
        first, dot, rest = host.partition(".")
        return bool(first and dot) and rest == pattern[2:] and "." in rest
    return pattern == host


class _Flaw(NamedTuple):
    """What is wrong: the detail, the kind of decision with its facts, and what a browser says before (the lower number)."""

    detail: Detail
    kind: Callable[..., Decision]
    facts: tuple[str, ...]
    rank: int


def _unfit(link: Facts, why: str, fault: str = "use") -> _Flaw:
    """A certificate that is not fit for its part in a path: why, and what is at fault (its `use`, a `constraint`, `weak`)."""
    rank = _STRENGTH if fault == "weak" else _USE
    return _Flaw(Detail.OTHER, tls_kinds.WrongUse, (link.label, why, fault), rank)


#: In which order a browser says what is wrong (measured): use, names, strength, time; of use nothing, where one of the last two
#: is wrong as well. Issuers come before all.
_USE, _NAME, _STRENGTH, _TIME = range(4)


class _Checking(NamedTuple):
    """One certificate before one client."""

    certificate: Certificate
    shown: Shown
    client: Client
    now: datetime
    estate: Estate
    shared: Shared
    fetches: Fetches | None

    @property
    def browser(self) -> bool:
        """Whether the client is a browser."""
        return isinstance(self.client, Vantage) and self.client.like == "chromium"

    def of_the_house(self, anchor: Facts) -> bool:
        """Whether an anchor was given to the client by hand, and does not come with it."""
        held = [each for each in self.estate.authorities.values() if each.name in self.client.trusts and each.pem]
        return any(each is anchor for authority in held for each in authority_every(authority, self.shared))

    def said(self, kind: Callable[..., Decision], *facts: str) -> Decision:
        """A decision about the certificate."""
        return kind(*facts, place=self.certificate.place, subject=self.certificate)


def verify(
    certificate: Certificate,
    host: str,
    literal: IPAddress | None,
    client: Client,
    now: datetime,
    estate: Estate,
    shared: Shared,
    fetches: Fetches | None = None,
    once: Once | None = None,
) -> Handshake:
    """What a client makes of a server's certificate, for the host that it asked for.

    `fetches` is where it gets an issuer's; `once` keeps where a chain led, which is the same for every host.
    """
    if client.checks is Checks.NOTHING:
        unchecked = tls_kinds.Unchecked(client.name, place=client.place, subject=certificate)
        return Handshake(None, (unchecked,), certificate)
    shown = shown_by(certificate, estate, shared)
    at = _Checking(certificate, shown, client, now, estate, shared, fetches)
    decisions: list[Decision] = []
    if client.checks is Checks.EVERYTHING:
        chain = _followed(at) if once is None else once(client, certificate, lambda: _followed(at))
        decisions += chain.decisions
        if chain.detail is not None:
            return Handshake(chain.detail, tuple(decisions), certificate, decisions[-1])
        flaws = list(chain.flaws)
    else:
        flaws = list(_of_time((shown.leaf,), now))
    misses = _name_flaw(at, host, literal)
    if misses is not None:
        flaws.append(misses)
    if flaws:
        first = _first_of_a_browser(flaws) if at.browser else flaws[0]
        if first is misses and shown.leaf.until is not None and len(flaws) == 1:
            decisions.append(at.said(tls_kinds.Valid, _when(shown.leaf.until)))
        stop = at.said(first.kind, *first.facts)
        return Handshake(first.detail, (*decisions, stop), certificate, stop)
    if shown.leaf.until is not None:
        decisions.append(at.said(tls_kinds.Valid, _when(shown.leaf.until)))
    return Handshake(None, (*decisions, at.said(tls_kinds.Covers, host)), certificate)


def _first_of_a_browser(flaws: list[_Flaw]) -> _Flaw:
    later = [each for each in flaws if each.rank >= _STRENGTH]
    said = [each for each in flaws if each.rank != _USE] if later else flaws
    return min(said, key=lambda each: each.rank)


def _name_flaw(at: _Checking, host: str, literal: IPAddress | None) -> _Flaw | None:
    leaf = at.shown.leaf
    names = leaf.names
    if at.browser:
        names = tuple(each for each in names if browsers.takes_name(each))
    elif leaf.common is not None:
        names = (leaf.common,)
    if any(covers(name, host, literal) for name in names):
        return None
    held = ", ".join(leaf.names) or "no name"
    return _Flaw(Detail.NAME_MISMATCH, tls_kinds.NameMismatch, (at.certificate.name, host, held), _NAME)


# -- the chain --


class _Chain(NamedTuple):
    """Where a chain leads: what decided, the failure where it leads nowhere, and what is wrong with it where it does."""

    decisions: tuple[Decision, ...]
    detail: Detail | None = None
    flaws: tuple[_Flaw, ...] = ()


def _followed(at: _Checking) -> _Chain:
    anchors, others = _trusted(at.client, at.estate, at.shared)
    chain = list(at.shown.chain)
    if at.browser:
        unusable = at.shown.leaf.not_for_browsers
        if unusable is not None:
            # The handshake breaks before anybody looks at the chain.
            stop = at.said(tls_kinds.WrongUse, at.shown.leaf.label, *unusable)
            return _Chain((stop,), Detail.NO_COMMON_VERSION if unusable[1] == "weak" else Detail.OTHER)
        chain += _fetched(at, others)
    else:
        content = _content(at, chain, anchors)
        if content is not None:
            return content
    walked = _walk(at, chain, anchors, others)
    if not isinstance(at.shown.leaf.identity, bytes):
        return walked if isinstance(walked, _Chain) else _Chain((walked.anchor,), None, _own_flaws(at, walked.links))
    if at.browser:
        return _by_a_browser(at, chain, anchors, walked)
    return _by_openssl(at, chain, anchors, walked)


def _content(at: _Checking, chain: list[Facts], anchors: list[Facts]) -> _Chain | None:
    """OpenSSL's verdict where it has nothing to complain of: then nobody walks the chain once more. None where it has."""
    if not isinstance(at.shown.leaf.identity, bytes):
        return None
    complaints, path = _judged(at, chain, anchors)
    top = next((each for each in (*anchors, *chain) if path and each.identity == path[-1]), None)
    if complaints or top is None:
        return None
    return _Chain((at.said(tls_kinds.Trusted, top.label, at.client.name),))


class _Path(NamedTuple):
    """A path to an anchor, or to what is assumed to be trusted."""

    links: tuple[Facts, ...]
    anchor: Decision


def _by_openssl(at: _Checking, chain: list[Facts], anchors: list[Facts], walked: "_Path | _Chain") -> _Chain:
    """OpenSSL's verdict; in our words where our walk came to the same."""
    from portolan.tls.judge import LEAF_TOO_SHORT, UNTRUSTED

    held = anchors if isinstance(walked, _Chain) else [*anchors, *_last_of_bytes(walked.links)]
    complaints, path = _judged(at, chain, held)
    if complaints and complaints[0].number == LEAF_TOO_SHORT:
        # The leaf's key is looked at before anybody looks for issuers.
        return _Chain((), None, _told(at, complaints[:1], {}, (at.shown.leaf,)))
    if any(each.number in UNTRUSTED for each in complaints):
        if isinstance(walked, _Chain):
            return walked
        last = walked.links[-1]
        stop = at.said(tls_kinds.UnknownIssuer, at.shown.leaf.label, last.label, at.client.name)
        return _Chain((stop,), Detail.UNKNOWN_ISSUER)
    known = {each.identity: each for each in (at.shown.leaf, *chain, *anchors)}
    links = tuple(known[each] for each in path if each in known)
    if isinstance(walked, _Chain):
        top = links[-1] if links else at.shown.leaf
        return _Chain(
            (at.said(tls_kinds.Trusted, top.label, at.client.name),), None, _told(at, complaints, known, links)
        )
    return _Chain((walked.anchor,), None, _told(at, complaints, known, links or walked.links))


def _by_a_browser(at: _Checking, chain: list[Facts], anchors: list[Facts], walked: "_Path | _Chain") -> _Chain:
    """The first path without a flaw, of all that there are; the first, where each has one."""
    paths = list(_paths(at, chain, anchors)) if isinstance(walked, _Chain) or len(walked.links) > 1 else []
    if isinstance(walked, _Path):
        paths = [walked, *paths]
    if not paths:
        assert isinstance(walked, _Chain)
        return walked
    judged = [(path, _browser_flaws(at, path)) for path in paths]
    path, flaws = next((each for each in judged if not each[1]), judged[0])
    return _Chain((path.anchor,), None, flaws)


def _browser_flaws(at: _Checking, path: _Path) -> tuple[_Flaw, ...]:
    from portolan.tls.judge import PURPOSE, UNTRUSTED, WEAK, WEAK_DIGEST

    held = [each for each in path.links if isinstance(each.identity, bytes)]
    complaints, _ = _judged(at, held, held[-1:])
    known = {each.identity: each for each in held}
    taken = []
    for each in complaints:
        strong = each.number in WEAK and each.number != WEAK_DIGEST
        any_use = each.number == PURPOSE and known[each.certificate].any_use
        if each.number not in UNTRUSTED and not strong and not any_use:
            taken.append(each)
    return _told(at, tuple(taken), known, path.links)


def _judged(at: _Checking, chain: list[Facts], anchors: list[Facts]) -> tuple[tuple[Any, ...], tuple[bytes, ...]]:
    """OpenSSL's complaints about a chain with these anchors, and the path that it took."""
    from portolan.tls.judge import Judge

    roots = tuple(each.identity for each in anchors if isinstance(each.identity, bytes))
    sent = tuple(each.identity for each in (at.shown.leaf, *chain) if isinstance(each.identity, bytes))
    sent = tuple(dict.fromkeys(sent))
    judge = at.shared.by("judge", (roots, at.now), lambda: Judge(roots, at.now))
    return at.shared.by("judged", (sent, roots, at.now), lambda: judge.complaints(sent))


def _told(
    at: _Checking, complaints: tuple[Any, ...], known: dict[Any, Facts], path: tuple[Facts, ...]
) -> tuple[_Flaw, ...]:
    """Complaints in our words."""
    from portolan.tls.judge import CONSTRAINTS, NOT_YET, OVER, WEAK, WORDS

    flaws = []
    for each in complaints:
        link = known.get(each.certificate, at.shown.leaf)
        if each.number == OVER and link.until is not None:
            flaws.append(_over(link, at.now))
        elif each.number == NOT_YET and link.starts is not None:
            flaws.append(_early(link, at.now))
        else:
            fault = "weak" if each.number in WEAK else "constraint" if each.number in CONSTRAINTS else "use"
            ours = [
                one
                for one in (*_of_use(path), *_of_names(path))
                if one.facts[2] == fault and (fault == "constraint" or one.facts[0] == link.label)
            ]
            words = WORDS.get(each.number, f"OpenSSL refuses it, with its number {each.number}")
            flaws.append(ours[0] if ours else _unfit(link, words, fault))
    return tuple(flaws)


# -- our own look, for what is declared and for the words --


def _own_flaws(at: _Checking, path: tuple[Facts, ...]) -> tuple[_Flaw, ...]:
    """What is wrong with a path, in OpenSSL's order: use, how many below, strength, the clock, what an authority may sign."""
    use = [each for each in _of_use(path) if not (at.browser and each.rank == _STRENGTH)]
    return (*use, *_of_time(path, at.now), *_of_names(path))


def _of_time(path: tuple[Facts, ...], now: datetime) -> Iterator[_Flaw]:
    for link in reversed(path):
        if link.until is not None and now > link.until:
            yield _over(link, now)
        elif link.starts is not None and now < link.starts:
            yield _early(link, now)


def _over(link: Facts, now: datetime) -> _Flaw:
    assert link.until is not None
    return _Flaw(Detail.EXPIRED, tls_kinds.Expired, (link.label, _when(link.until), _when(now)), _TIME)


def _early(link: Facts, now: datetime) -> _Flaw:
    assert link.starts is not None
    return _Flaw(Detail.NOT_YET_VALID, tls_kinds.NotYetValid, (link.label, _when(link.starts), _when(now)), _TIME)


def _of_use(path: tuple[Facts, ...]) -> Iterator[_Flaw]:
    """The certificates of a path that are not fit for their part in it."""
    for link in path:
        if link.critical is not None:
            yield _unfit(link, f"it has a critical extension ({link.critical}) that nobody knows")
    for number, link in enumerate(path[1:], 1):
        if not link.may_issue:
            yield _unfit(link, "it is no authority's certificate")
        if not link.for_servers:
            yield _unfit(link, "it is not for servers' authorities")
        if link.most_below is not None and _authorities_below(path, number) > link.most_below:
            yield _unfit(link, f"at most {link.most_below} authorities may stand below it", "constraint")
    if not path[0].may_serve:
        yield _unfit(path[0], "it is not for servers")
    for link in path:
        # A root is trusted as it stands, however it is signed.
        if link.weak is not None and not (link.self_signed and link is path[-1] and len(path) > 1):
            yield _unfit(link, link.weak, "weak")


def _of_names(path: tuple[Facts, ...]) -> Iterator[_Flaw]:
    """The authorities that may not sign one of the leaf's names (RFC 5280 section 4.2.1.10)."""
    leaf = path[0]
    names = [each for each in (*leaf.names, *((leaf.common,) if leaf.common else ())) if not is_address(each)]
    for link in path[1:]:
        for name in names:
            bare = name.removeprefix("*.")
            if link.permitted is not None and not any(_below(bare, each) for each in link.permitted):
                yield _unfit(link, f"it may sign for {', '.join(link.permitted)} only, not for {name}", "constraint")
            if any(_below(bare, each) for each in link.excluded):
                yield _unfit(link, f"it may not sign for {name}", "constraint")


def _below(name: str, zone: str) -> bool:
    return not zone or name == zone or name.endswith(f".{zone}")


def _authorities_below(path: tuple[Facts, ...], number: int) -> int:
    """How many authorities stand between a link and the leaf, those aside that issued themselves (RFC 5280 section 6.1.4)."""
    return sum(each.subject != each.issuer for each in path[1:number])


@lru_cache(1024)
def _when(moment: datetime) -> str:
    return moment.strftime("%Y-%m-%d %H:%M UTC")


# -- paths --


def _walk(at: _Checking, chain: list[Facts], anchors: list[Facts], others: list[Facts]) -> "_Path | _Chain":
    """The path to an anchor, or why there is none. Of several that lead on, one that is in time comes first."""
    leaf, who = at.shown.leaf, at.client.name
    path = [leaf]
    while len(path) < _MOST_LINKS:
        current = path[-1]
        standing = [each for each in anchors if _ends(at, each, current, len(path) == 1)]
        anchor = min(standing, key=lambda each: _out_of_time(each, at.now), default=None)
        if anchor is not None:
            if anchor.identity != current.identity:
                path.append(anchor)
            return _Path(tuple(path), at.said(tls_kinds.Trusted, anchor.label, who))
        if current.self_signed:
            break
        above = min(
            (each for each in chain if each not in path and each.signed(current)),
            key=lambda each: _out_of_time(each, at.now),
            default=None,
        )
        if above is None:
            break
        path.append(above)
    last = path[-1]
    public = "public" in at.client.trusts
    if last.issuer == "authority:public" and public and last.chain_left_out:
        # Every public authority issues by an intermediate, and says in the certificate where that is.
        if at.browser and at.fetches is not None:
            return _Path(tuple(path), at.said(tls_kinds.IssuerFetched, "the authority's own server", who))
        issuer = "an intermediate of an ordinary public authority"
        return _Chain((at.said(tls_kinds.IncompleteChain, last.label, issuer, who),), Detail.INCOMPLETE_CHAIN)
    if last.issuer == "authority:public" and public:
        return _Path(tuple(path), at.said(tls_kinds.Trusted, "an ordinary public authority", who))
    if leaf.self_signed:
        return _Chain((at.said(tls_kinds.SelfSigned, leaf.label, who),), Detail.SELF_SIGNED)
    if last.self_signed:
        return _Chain((at.said(tls_kinds.UnknownIssuer, leaf.label, last.label, who),), Detail.UNKNOWN_ISSUER)
    known = next((each for each in others if each.signed(last)), None)
    reach = [*others, *chain]
    if known is not None and _leads_to(known, reach, anchors):
        return _Chain((at.said(tls_kinds.IncompleteChain, last.label, known.label, who),), Detail.INCOMPLETE_CHAIN)
    if known is None and isinstance(last.identity, bytes) and public:
        fetched = _gives(at, last)
        if len(path) > 1 or fetched is not None:
            words = (
                (tls_kinds.TrustAssumed, last.issuer, who)
                if fetched is None
                else (tls_kinds.IssuerFetched, fetched, who)
            )
            return _Path(tuple(path), at.said(*words))
        if not at.estate.authorities:
            # No root signs a server's certificate itself: what stands between is not sent.
            return _Chain((at.said(tls_kinds.IncompleteChain, last.label, last.issuer, who),), Detail.INCOMPLETE_CHAIN)
    if known is None and any(each.may_issue and _leads_to(each, reach, anchors) for each in chain if each not in path):
        # What is sent leads to whom the client trusts, and what stands between is left out.
        return _Chain((at.said(tls_kinds.IncompleteChain, last.label, last.issuer, who),), Detail.INCOMPLETE_CHAIN)
    issuer = known.label if known is not None else last.issuer.removeprefix("authority:")
    return _Chain((at.said(tls_kinds.UnknownIssuer, leaf.label, issuer, who),), Detail.UNKNOWN_ISSUER)


def _ends(at: _Checking, anchor: Facts, last: Facts, alone: bool) -> bool:
    """Whether a path ends at an anchor: it is its last certificate, or signed that.

    A browser takes a leaf for an anchor only if it may sign, and looks for the roots of a house by the very letters (measured).
    """
    if anchor.identity == last.identity:
        return not (at.browser and alone and not last.may_issue)
    return anchor.signed(last) and not (at.browser and at.of_the_house(anchor) and anchor.subject != last.issuer)


def _paths(at: _Checking, chain: list[Facts], anchors: list[Facts]) -> Iterator[_Path]:
    """Every path to an anchor, through whatever is sent and fetched."""
    open_ends: list[tuple[Facts, ...]] = [(at.shown.leaf,)]
    found = 0
    while open_ends and found < _MOST_PATHS:
        path = open_ends.pop(0)
        for anchor in anchors:
            if _ends(at, anchor, path[-1], len(path) == 1):
                links = path if anchor.identity == path[-1].identity else (*path, anchor)
                found += 1
                yield _Path(links, at.said(tls_kinds.Trusted, anchor.label, at.client.name))
        if len(path) < _MOST_LINKS and not path[-1].self_signed:
            open_ends += [(*path, each) for each in chain if each not in path and each.signed(path[-1])]
            del open_ends[_MOST_PATHS * 4 :]


def _gives(at: _Checking, last: Facts) -> str | None:
    """Where a browser fetches an issuer's certificate that is not sent (RFC 5280 section 4.2.2.1); None where it gets none."""
    if not at.browser or at.fetches is None:
        return None
    # Where nobody describes the place, an authority's own server is assumed to answer.
    return next((url for url in last.issuer_at if url.startswith("http:") and at.fetches(url) is not False), None)


def _fetched(at: _Checking, others: list[Facts]) -> list[Facts]:
    """The certificates of the estate's authorities that a browser fetches, since what is sent says where they are."""
    found: list[Facts] = []
    reach = [at.shown.leaf, *at.shown.chain]
    while reach:
        last = reach.pop(0)
        above = [each for each in others if each.signed(last) and each not in found and each not in at.shown.chain]
        if above and isinstance(last.identity, bytes) and _gives(at, last) is not None:
            found += above
            reach += above
    return found


def _last_of_bytes(links: tuple[Facts, ...]) -> list[Facts]:
    """The uppermost certificate of a path that there is: what stands above it is trusted, or declared."""
    return [each for each in links if isinstance(each.identity, bytes)][-1:]


def _trusted(client: Client, estate: Estate, shared: Shared) -> tuple[list[Facts], list[Facts]]:
    """The visitor's anchors, and every other authority of the estate."""
    anchors, others = [], []
    for authority in estate.authorities.values():
        for facts in authority_every(authority, shared):
            root = facts.self_signed
            if authority.name in client.trusts or (root and authority.public and "public" in client.trusts):
                anchors.append(facts)
            else:
                others.append(facts)
    return anchors, others


def _out_of_time(facts: Facts, now: datetime) -> bool:
    return (facts.until is not None and now > facts.until) or (facts.starts is not None and now < facts.starts)


def _leads_to(authority: Facts, others: list[Facts], anchors: list[Facts]) -> bool:
    for _ in range(_MOST_LINKS):
        if authority.issuer == "authority:public" or any(anchor.signed(authority) for anchor in anchors):
            return True
        above = next((each for each in others if each is not authority and each.signed(authority)), None)
        if above is None:
            return False
        authority = above
    return False
