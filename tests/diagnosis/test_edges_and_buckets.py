"""Every fault of edges and stores: a healthy archive with one fact changed, in which it is the first cause, and its remedy proven."""

import json

import pytest

from portolan.diagnosis.lint import lint
from portolan.diagnosis.search import explain
from portolan.formats.change import patch_operations
from portolan.formats.estate_file import changed
from portolan.journey.expectation import expectation_for, misses
from portolan.journey.visit import visit
from portolan.journey.world import World
from tests.conftest import loaded, swap

#: A bucket behind an edge, a private one behind another, and a web server behind a third that is switched on at its record.
ARCHIVE = """
portolan: 1
at: 2026-03-14T20:00:00Z
stores:
  depot:
    pages_at: pages.depot.example
    objects_at: objects.depot.example
    buckets:
      kestrel-images:
        objects: [index.html, domes/index.html, domes/north.svg, error.html]
        web: true
        error_document: error.html
        grants: [{to: everyone, on: kestrel-images/*}]
      kestrel-plans:
        objects: [index.html, march.html]
        sealed: true
        grants: [{to_edge: plans, on: kestrel-plans/*}]
edges:
  front:
    canonical: reef.edges.example
    names: [images.kestrel-ridge.example]
    certificate: images
    plain: to-secure
    origin: {at: kestrel-images.pages.depot.example}
  plans:
    canonical: d8.edges.example
    names: [plans.kestrel-ridge.example]
    certificate: images
    index_file: index.html
    asks_from: [192.0.2.128/28]
    origin: {at: kestrel-plans.objects.depot.example, leg: verified, signs: true}
  desk:
    canonical: d9.edges.example
    names: [bookings.kestrel-ridge.example]
    certificate: images
    asks_from: [192.0.2.128/28]
    origin: {at: rack.kestrel-ridge.example, leg: verified, host: kept}
hosts:
  vela:
    interfaces: {internet: {address: 192.0.2.10}}
    services:
      web:
        program: nginx
        listens: [80, 443 tls]
        certificate: images
        sites:
          bookings:
            names: [bookings.kestrel-ridge.example]
            files: [index.html]
          other: {default: true, answer: 404}
certificates:
  images: {names: ["*.kestrel-ridge.example"]}
zones:
  kestrel-ridge.example:
    records:
      - images 300 CNAME reef.edges.example.
      - plans 300 CNAME d8.edges.example.
      - bookings 300 CNAME d9.edges.example.
      - rack 300 A 192.0.2.10
      - visit 300 A 192.0.2.10
vantages:
  street: {network: internet, address: 198.51.100.77, default: true}
expected:
  - {url: "https://images.kestrel-ridge.example/", page: kestrel-images/index.html, secure: true}
  - {url: "https://images.kestrel-ridge.example/domes/", page: kestrel-images/domes/index.html}
  - {url: "https://plans.kestrel-ridge.example/", page: kestrel-plans/index.html}
  - {url: "https://bookings.kestrel-ridge.example/", page: bookings/index.html, secure: true}
"""
IMAGES = "https://images.kestrel-ridge.example/"
PLANS = "https://plans.kestrel-ridge.example/"
DESK = "https://bookings.kestrel-ridge.example/"
AT = "at: kestrel-images.pages.depot.example"
GRANT = "grants: [{to: everyone, on: kestrel-images/*}]"
PLAN = "grants: [{to_edge: plans, on: kestrel-plans/*}]"
FRONT = "    plain: to-secure\n"
KEYS = "objects: [index.html, domes/index.html, domes/north.svg, error.html]"
IMAGE_RECORD = "      - images 300 CNAME reef.edges.example.\n"
LEG = "at: rack.kestrel-ridge.example, leg: verified, host: kept"
NAMES = "names: [images.kestrel-ridge.example]"
TO_FORCE = "            files: [index.html]\n", ('            files: [index.html]\n            redirects: [{when: {scheme: http}, to: "https://{host}{path}{query}"}]\n')  # fmt: skip
STRICT = [TO_FORCE, ("certificate: images\n    asks_from: [192.0.2.128/28]\n    origin: {at: rack", "certificate: images\n    plain: to-secure\n    asks_from: [192.0.2.128/28]\n    origin: {at: rack")]  # fmt: skip


def front(facts: str):
    """The first edge with a further fact."""
    return FRONT, f"{FRONT}    {facts}\n"


def expected(line: str):
    """A further expectation, before the others."""
    return "expected:\n", f"expected:\n  - {line}\n"


WWW = [("      - rack 300", "      - www 300 CNAME www.kestrel-ridge.example.pages.depot.example.\n      - rack 300"),
       expected('{url: "http://www.kestrel-ridge.example/", page: www.kestrel-ridge.example/index.html}'),
       ("      kestrel-plans:\n", "      www.kestrel-ridge.example: {objects: [index.html], web: true, grants: [{to: everyone}]}\n      kestrel-plans:\n")]  # fmt: skip
SENT = [("      kestrel-plans:\n", "      www.kestrel-ridge.example: {web: true, sends_all_to: TARGET}\n      kestrel-plans:\n"),
        ("      - rack 300", "      - www 300 CNAME www.kestrel-ridge.example.pages.depot.example.\n      - rack 300"),
        expected('{url: "http://www.kestrel-ridge.example/", page: kestrel-images/index.html, secure: true}')]  # fmt: skip
RENAMED = [
    (
        a,
        b.replace("      www.kestrel-ridge.example: {", "      kestrel-www: {").replace(
            ", page: www.kestrel-ridge.example/index.html", ""
        ),
    )
    for a, b in WWW
]

#: By code, and where a code is met in several ways by a comma and a number: the changes, and the address asked.
BAD = {
    "edge-name-unknown": ([(NAMES, "names: [image.kestrel-ridge.example]")], IMAGES),
    "edge-name-unknown,2": ([(NAMES, "names: [image.kestrel-ridge.example]\n    unknown_in_tls: rejected")], IMAGES),
    "edge-name-unknown,3": ([(NAMES, NAMES + "\n    held_by_others: [images.kestrel-ridge.example]")], IMAGES),
    "edge-not-in-effect": ([front("in_effect_from: 2026-03-14T20:15:00Z")], IMAGES),
    "edge-not-in-effect,2": ([front("in_effect_from: 2026-03-14T20:15:00Z\n    before: [{until: 2026-03-14T20:15:00Z, origin: old.objects.depot.example}]")], IMAGES),
    "edge-origin-address": ([(AT, "at: kestrel-images.objects.depot.example")], IMAGES),
    "edge-origin-address,2": ([("at: kestrel-plans.objects.depot.example, leg: verified", "at: kestrel-plans.pages.depot.example"), ("sealed: true", "sealed: true\n        web: true")], PLANS),
    "edge-origin-name": ([(AT, "at: https://kestrel-images.pages.depot.example")], IMAGES),
    "edge-origin-name,2": ([(AT, "at: kestrel-images.pages.depot.example/index.html")], IMAGES),
    "edge-origin-name,3": ([(AT, "at: kestrel-images.page.depot.example")], IMAGES),
    "edge-origin-name,4": ([(LEG, LEG.replace("rack", "rock"))], DESK),
    "edge-origin-path": ([(AT, AT + ", prefix: /index.html")], IMAGES),
    "edge-origin-path,2": ([(KEYS, "objects: [site/index.html, site/domes/index.html, error.html]"), ("page: kestrel-images/index", "page: kestrel-images/site/index")], IMAGES),
    "edge-index-missing,2": ([("    index_file: index.html\n", "    index_file: home.html\n")], PLANS),
    "edge-index-missing": ([("    index_file: index.html\n", "")], PLANS),
    "edge-leg-mismatch": ([(AT, AT + ", leg: verified")], IMAGES),
    "edge-leg-mismatch,2": ([(LEG, "at: rack.kestrel-ridge.example, host: kept, port: 443")], DESK),
    "edge-leg-unverified": ([(LEG, "at: rack.kestrel-ridge.example, leg: verified"), ("  images: {names: [\"*.kestrel-ridge.example\"]}", "  images: {names: [\"*.kestrel-ridge.example\"]}\n  own: {names: [bookings.kestrel-ridge.example]}"), ("        certificate: images\n        sites", "        certificate: own\n        sites")], DESK),
    "edge-leg-unverified,2": ([("  images: {names: [\"*.kestrel-ridge.example\"]}", "  images: {names: [\"*.kestrel-ridge.example\"]}\n  own: {names: [\"*.kestrel-ridge.example\"], issuer: self}"), ("        certificate: images\n        sites", "        certificate: own\n        sites")], DESK),
    "edge-origin-closed": ([("    interfaces: {internet: {address: 192.0.2.10}}", "    interfaces: {internet: {address: 192.0.2.10, groups: [rack]}}"), ("hosts:\n", "groups: {rack: {inbound: [{allow: tcp, ports: 443, from: 203.0.113.0/24}]}}\nhosts:\n")], DESK),
    "edge-origin-closed,2": ([("            files: [index.html]\n", "            files: [index.html]\n            access: {headers: {x-from-edge: invented-7}}\n")], DESK),
    "edge-origin-closed,4": ([("            files: [index.html]\n", "            files: [index.html]\n            access: {headers: {X-From-Edge: invented-7}}\n"), (LEG, f"{LEG}, sends: {{X-From-Edge: invented-6, X-Other: a}}")], DESK),
    "edge-origin-closed,3": ([("            files: [index.html]\n", "            files: [index.html]\n            access: {from: [203.0.113.0/24]}\n")], DESK),
    "bucket-grant-denies": ([(GRANT, 'grants: [{to: everyone, on: kestrel-images/*}, {to: everyone, on: kestrel-images/index.html, denies: true}]')], IMAGES),
    "edge-error-page": ([("    index_file: index.html\n", "    index_file: index.html\n    error_pages: {404: /index.html}\n    error_pages_say: {404: 200}\n"), expected(f'{{url: "{PLANS}march/5", page: kestrel-plans/index.html}}')], PLANS + "march/5"),
    "edge-error-page,2": ([expected(f'{{url: "{PLANS}march/5", page: kestrel-plans/index.html}}')], PLANS + "march/5"),
    "edge-error-page,3": ([("        error_document: error.html\n", "        error_document: index.html\n"), expected(f'{{url: "{IMAGES}march/5", page: kestrel-images/index.html}}')], IMAGES + "march/5"),
    "edge-holds-old": ([front("holds: [{url: \"https://images.kestrel-ridge.example/\", since: 2026-03-14T19:00:00Z, status: 404, keeps: 7200}]")], IMAGES),
    "edge-holds-old,2": ([front("last_asked: 2026-03-14T19:00:00Z"), (GRANT, GRANT + "\n        before: [{until: 2026-03-14T19:30:00Z, sends_all_to: \"http://old.kestrel-ridge.example\"}]")], IMAGES),
    "edge-key-scheme": ([(LEG, "at: rack.kestrel-ridge.example, host: kept"), TO_FORCE, ("{when: {scheme: http}", "{when: {not_header: {x-forwarded-proto: https}}"), expected('{url: "http://bookings.kestrel-ridge.example/", page: bookings/index.html, secure: true}')], "http://bookings.kestrel-ridge.example/"),
    "edge-filter-blocks": ([front("access: {from: [203.0.113.0/24]}")], IMAGES),
    "edge-methods": ([("address: 198.51.100.77,", "address: 198.51.100.77, method: POST,"), ("            files: [index.html]\n", "            answer: 200\n"), ("page: bookings/index.html", "page: bookings")], DESK),
    "edge-plain-refused": ([(FRONT, "    plain: refuse\n"), expected('{url: "http://images.kestrel-ridge.example/", page: kestrel-images/index.html, secure: true}')], "http://images.kestrel-ridge.example/"),
    "edge-circle": ([(AT, "at: images.kestrel-ridge.example")], IMAGES),
    "redirect-missing": ([(FRONT, ""), expected('{url: "http://images.kestrel-ridge.example/", page: kestrel-images/index.html, secure: true}')], "http://images.kestrel-ridge.example/"),
    "redirect-loop-origin-plain": ([(LEG, "at: rack.kestrel-ridge.example, host: kept"), *STRICT], DESK),
    "redirect-scheme-not-trusted": ([(LEG, "at: rack.kestrel-ridge.example, host: kept"), *STRICT, ("{when: {scheme: http}", "{when: {not_header: {x-scheme: https}}")], DESK),
    "cert-name": ([("images: {names: [\"*.kestrel-ridge.example\"]}", "images: {names: [kestrel-ridge.example]}")], IMAGES),
    "edge-leg-unverified,3": ([("kestrel-plans:", "kestrel.plans:"), ("kestrel-plans/*", "kestrel.plans/*"), ("at: kestrel-plans.objects", "at: kestrel.plans.objects"), ("page: kestrel-plans/", "page: kestrel.plans/")], PLANS),
    "cert-name,2": ([("kestrel-plans:", "kestrel.plans:"), ("grants: [{to_edge: plans, on: kestrel-plans/*}]", "grants: [{to: everyone}]"), ("        sealed: true\n", ""), ("page: kestrel-plans/", "page: kestrel.plans/"), ("at: kestrel-plans.", "at: kestrel.plans."), expected('{url: "https://kestrel.plans.objects.depot.example/index.html", page: kestrel.plans/index.html}')], "https://kestrel.plans.objects.depot.example/index.html"),
    "cert-missing": ([(NAMES + "\n    certificate: images", NAMES)], IMAGES),
    "upstream-wrong-address": ([(LEG, f"{LEG}, port: 8443")], DESK),
    "upstream-down": ([("        listens: [80, 443 tls]\n", "        listens: [80, 443 tls]\n        state: stopped\n")], DESK),
    "upstream-silent": ([("        listens: [80, 443 tls]\n", "        listens: [80, 443 tls]\n        answers_after: 90\n")], DESK),
    "bucket-sealed": ([(GRANT, GRANT + "\n        sealed: true")], IMAGES),
    "bucket-grant-missing": ([(GRANT, "grants: []")], IMAGES),
    "bucket-grant-missing,2": ([(GRANT, "sealed: true")], IMAGES),
    "bucket-grant-missing,3": ([(PLAN, "marks: [private]")], PLANS),
    "edge-unsigned": ([("leg: verified, signs: true}", "leg: verified}")], PLANS),
    "bucket-grant-scope": ([(GRANT, "grants: [{to: everyone, on: BUCKET-NAME/*}]")], IMAGES),
    "bucket-grant-scope,2": ([(GRANT, "grants: [{to: everyone, on: kestrel-images}]")], IMAGES),
    "bucket-grant-scope,3": ([(PLAN, "grants: [{to_edge: front, on: kestrel-plans/*}]")], PLANS),
    "bucket-grant-scope,4": ([(GRANT, "grants: [{to: everyone, on: kestrel-images/domes/*}]")], IMAGES),
    "bucket-web-off": ([("        web: true\n", "")], IMAGES),
    "bucket-name-differs": (RENAMED, "http://www.kestrel-ridge.example/"),
    "bucket-name-differs,2": ([(AT, AT + ", host: kept")], IMAGES),
    "bucket-name-differs,3": ([("depot:\n    pages_at", "depot:\n    strangers: [kestrel-image]\n    pages_at"), (AT, "at: kestrel-image.pages.depot.example")], IMAGES),
    "bucket-index-missing": ([(KEYS, KEYS.replace("[index.html", "[Index.html"))], IMAGES),
    "content-missing": ([expected('{url: "https://images.kestrel-ridge.example/domes/North.svg", page: kestrel-images/domes/North.svg}')], "https://images.kestrel-ridge.example/domes/North.svg"),
    "bucket-redirect-target": ([*SENT, ("TARGET", "https://image.kestrel-ridge.example")], "http://www.kestrel-ridge.example/"),
    "bucket-redirect-target,2": ([*SENT, ("TARGET", "http://images.kestrel-rigde.example")], "http://www.kestrel-ridge.example/"),
    "name-missing": ([(IMAGE_RECORD, "")], IMAGES),
    "name-alias-dangling": ([(IMAGE_RECORD, IMAGE_RECORD.replace("reef", "reeff"))], IMAGES),
    "name-wrong-address": ([(IMAGE_RECORD, "      - images 300 A 192.0.2.10\n      - images 300 A 192.0.2.11\n")], IMAGES),
    "name-wrong-address,2": ([(IMAGE_RECORD, IMAGE_RECORD.replace("reef", "d8"))], IMAGES),
    "name-wrong-address,3": ([(IMAGE_RECORD, IMAGE_RECORD.replace("reef.edges", "kestrel-images.pages.depot"))], IMAGES),
    "refusal-missing": ([expected('{url: "https://plans.kestrel-ridge.example/march.html", status: 403}')], PLANS + "march.html"),
    "refusal-missing,2": ([expected('{url: "https://images.kestrel-ridge.example/domes/north.svg", status: 403}')], IMAGES + "domes/north.svg"),
    "bucket-plain-only": ([*WWW, expected('{url: "https://www.kestrel-ridge.example/", page: www.kestrel-ridge.example/index.html}')], "https://www.kestrel-ridge.example/"),
}  # fmt: skip
#: What a visitor, a resolver or a cache remembers: history, which no change rewrites; the advice is proven in thought.
REMEMBERED = {"name-cached-old", "name-cached-absent", "redirect-remembered", "transport-strict-trap", "edge-holds-old"}
#: What only a provider, a wait or an upload mends.
ADVICE_ONLY = {
    "edge-not-in-effect",
    "edge-not-in-effect,2",
    "edge-name-unknown,3",
    "edge-circle",
    "bucket-plain-only",
    "cert-name,2",
}


def explained(code: str):
    """The explanation of a bad archive, and what loads its changes."""
    changes, url = BAD[code]
    held = loaded(swap(ARCHIVE, *changes))
    world = World(held.estate, held.estate.at)
    return explain(world, url, held.estate.vantages["street"], lambda patch: changed(held, patch_operations(patch)).estate), held  # fmt: skip


def test_the_archive_is_healthy():
    """Nothing is wrong with it, and every expectation is met."""
    held = loaded(ARCHIVE)
    world = World(held.estate, held.estate.at)
    for each in held.estate.expected:
        assert misses(each, visit(world, each.url, held.estate.vantages["street"])) == ()
    assert [each.code for each in lint(world)] == ["edge-bypassed"]


@pytest.mark.parametrize("code", BAD)
def test_named_and_mended(code):
    """The fault is the first cause; its first remedy, applied as a change file, gives the visitor what was expected."""
    found, held = explained(code)
    assert [cause.code for cause in found.causes] == [code.partition(",")[0]]
    assert found.causes[0].place.object
    if code in ADVICE_ONLY:
        assert found.remedies
        return
    assert found.after is not None
    assert "invented-7" not in str([(each.text, each.patch, each.changes) for each in found.remedies])
    best = next(each for each in found.remedies if each.complete)
    if code.partition(",")[0] in REMEMBERED:
        assert (best.patch, best.safety) == ([], "outside")
        return
    assert best.safety != "weakens"
    again = changed(held, patch_operations(json.loads(json.dumps(best.patch)))).estate
    after = visit(World(again, again.at), BAD[code][1], again.vantages["street"])
    assert misses(expectation_for(again, BAD[code][1], again.vantages["street"]), after) == ()


def test_a_leg_of_nginx_that_is_checked_no_longer_is_told_once():
    """An edge that is a program of the estate is an edge and a program; what its leg loses is one thing."""
    estate = loaded(
        "portolan: 1\nat: 2026-03-14T20:00:00Z\n"
        "vantages: {street: {network: internet, address: 198.51.100.7}}\n"
        "hosts:\n"
        "  front:\n    interfaces: {internet: {network: internet, address: 203.0.113.10/24}}\n    services:\n"
        "      own: {kind: edge, program: nginx, origin: {at: 203.0.113.20, leg: verified}}\n"
        "  back:\n    interfaces: {internet: {network: internet, address: 203.0.113.20/24}}\n    services:\n"
        "      web: {listens: [443 tls], sites: {visit: {certificate: other, files: [index.html]}}}\n"
        "certificates: {other: {names: [else.kestrel-ridge.example]}}\n"
        "expected: [{url: 'http://203.0.113.10/', from: street, page: visit/index.html}]\n"
    )
    street = estate.estate.vantages["street"]
    found = explain(World(estate.estate, estate.estate.at), "http://203.0.113.10/", street, lambda patch: changed(estate, patch_operations(patch)).estate)  # fmt: skip
    weaker = [each for each in found.remedies if "no longer check the certificate" in each.text]
    assert [each.safety for each in weaker] == ["weakens"]
    assert [each for each in weaker[0].changes if "no longer checks" in each] == [
        "the edge own no longer checks whom it asks"
    ]
