"""Edges and stores where reality contradicted: what visitors get, the cause, and the change that mends it."""

from pathlib import Path

import pytest

import portolan

FOUND = Path(__file__).parent.parent / "found" / "edge"
A = "http://www.visitors.example/a"

#: File, URL; the status and what is got (a page, or the kind of the outcome); the first cause; how the first remedy begins.
ROWS = [
    ("app-deep-link", "https://plans.heron.example/orders/5", 403, "http-error", "edge-error-page", "let the edge desk give /index.html with status 200"),
    ("bucket-name-differs-advice", "http://club.heron.example/", 404, "http-error", "bucket-name-differs", "make the bucket heron-club anew under the name club.heron.example"),
    ("chain-not-sent-is-ignored", A, 502, "http-error", "edge-leg-unverified", "install origin with its whole chain"),
    ("default-document-and-grant", "https://prints.heron.example/", 403, "http-error", "bucket-grant-missing", "let everyone read heron-prints/*; then let the bucket"),
    ("default-document-other-name", "https://prints.heron.example/", 403, "http-error", "bucket-index-missing", "let the bucket heron-prints give index.html"),
    ("edge-ipv6-only", "https://prints.heron.example/", None, "connect-error", "name-wrong-type", "let the edge shopfront have addresses of IPv4 too"),
    ("held-for-the-other-scheme", "https://www.visitors.example/a", 301, "redirect-error", "edge-key-scheme", "put the scheme into the key of the edge front"),
    ("held-redirect-and-key", "https://shop.heron.example/", 301, "redirect-error", "edge-key-scheme", "put the scheme into the key of the edge shopfront"),
    ("nginx-must-revalidate", A, 200, "web/a", None, None),
    ("nginx-own-502-held", A, 502, "http-error", "edge-holds-old", "let the edge front forget what it holds"),
    ("nginx-stale-if-error", A, 200, "web/a", None, None),
    ("origin-name-also-visitors", "https://shop.heron.example/", 200, "shop/index.html", None, None),
    ("origin-record-old", "https://shop.heron.example/", 504, "http-error", "name-wrong-address", "change crane.heron.example from 192.0.2.20 to 192.0.2.10"),
    ("redirect-bucket-to-itself", "http://www.heron.example/", 301, "redirect-error", "bucket-redirect-target", "let the bucket www.heron.example send everything to https://prints.heron.example"),
    ("site-granted-page-by-page", "https://prints.heron.example/", 403, "http-error", "bucket-grant-missing", "let everyone read heron-prints/*"),
    ("edge-kept-name-misnamed", "https://shop.clockhouse.example/", 404, "http-error", "binding-missing", "add names shop.clockhouse.example"),
    ("alias-dot-to-a-store", "http://www.clockhouse.example/", None, "name-error", "differs-by-a-slip", "write www.clockhouse.example.pages.depot.example in place of"),
    ("bucket-sends-back-to-plain", "https://www.clockhouse.example/", 301, "redirect-error", "edge-origin-address", "let the edge front ask clockhouse-pages.objects.depot.example"),
    ("held-error-from-None", "https://www.clockhouse.example/", 502, "http-error", "edge-holds-old", "let the edge front forget what it holds for https://www.clockhouse.example/"),
    ("old-origin-until-deployed", "https://www.clockhouse.example/", 504, "http-error", "edge-not-in-effect", "wait until 2026-03-14 20:20 UTC"),
    ("edge-default-wrong", "https://members.skerry.example/", 403, "http-error", "edge-index-missing", "let the edge front ask for index.html where / is asked"),
    ("edge-not-yet", "https://tides.cove.example/", None, "name-error", "edge-not-in-effect", "wait until 2026-11-25 00:00 UTC"),
    ("edge-asks-from", "https://tides.cove.example/", 502, "http-error", "differs-by-a-slip", "write 192.0.2.128/28 in place of 192.0.2.144/28"),
    ("edge-way-mask", "https://tides.cove.example/", 504, "http-error", "differs-by-a-slip", "write 10.12.0.1 in place of 10.12.0.1/30"),
    ("origin-lacks-listener", "https://bookings.cape.example/", 502, "http-error", "edge-leg-mismatch", "let web listen on 443 tls too"),
    ("purge-called-unsafe", "https://www.clockhouse.example/", None, "name-error", "edge-holds-old", "let the edge front forget what it holds for https://www.clockhouse.example/"),
    ("tries-all-has-no-effect", A, 503, "http-error", "differs-by-a-slip", "write true in place of false for edges.front.origin.tries_all"),
]  # fmt: skip


@pytest.mark.parametrize(("name", "url", "status", "got", "cause", "remedy"), ROWS, ids=[row[0] for row in ROWS])
def test_what_reality_said(name, url, status, got, cause, remedy):
    """The outcome is what was measured, or what the paper has; the cause and its cure are those that a human found."""
    described = portolan.load(FOUND / f"{name}.yaml")
    outcome = described.follow(url).outcome
    assert (outcome.status, got) == (status, outcome.page if outcome.kind == "served" else outcome.kind)
    if cause is None:
        return
    found = described.explain(url)
    assert found.causes[0].code == cause
    if remedy is not None:
        assert remedy in found.remedies[0].text
