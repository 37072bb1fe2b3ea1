"""Rules of every kind, links, escapes, and what is passed on beside folders: as nginx and Apache httpd answered in the worlds."""

import pytest

from conformance.rule_worlds import RULE_WORLDS
from tests.conftest import OFFICE, all_got, ask, got, problems, swap

FILES = "            files: [index.html, tonight.html, img/dome.jpg]\n"

#: What came for each question of a world: a status, or a page (of the site `visit` where no other is named; `_` for a blank).
MEASURED = {
    "site: rules, one after the other (nginx)": "index.html about.html app.html about.html about.html app.html 404 404 l.html app.html 404 in/index.html in/x.html 405 405 405 405 405 405 405 405 405 405 405 405 405 405 405 405 405 405 405 404 404 405 405 404 in/index.html 405",
    "site: rules, one after the other (apache)": "index.html about.html app.html about.html about.html app.html 404 404 l.html app.html 404 in/index.html in/x.html 405 405 405 405 405 405 405 405 405 405 405 405 405 index.html about.html app.html about.html about.html app.html 404 404 l.html app.html 404 in/index.html in/x.html",
    "site: rules in a file (apache)": "index.html about.html app.html about.html about.html app.html 404 404 l.html 403 app.html in/index.html in/x.html 405 405 405 405 405 405 405 405 405 403 405 405 405",
    "site: rules in a file that go round (apache)": "500 500",
    "site: rules in a file that lead to themselves (apache)": "500 500 500",
    "site: rules in a file that end (apache)": "b/c.html 404 403",
    "site: rules of a section that go round (nginx)": "500 app.html",
    "site: rules of a section that stay (nginx)": "b/c.html 404 404",
    "site: rules that the next one sees (nginx)": "410 404 b/c.html",
    "site: rules that hand on what they matched (nginx)": "about.html about.html about.html about.html",
    "site: links to files and folders (nginx)": "old/index.html old/x.html l.html 404 old/index.html",
    "site: links to files and folders (apache)": "old/index.html old/x.html l.html 403 old/index.html",
    "site: paths with escapes (nginx)": "b_c/index.html about.html b_c/index.html about.html about.html",
    "site: paths with escapes (apache)": "b_c/index.html about.html b_c/index.html about.html about.html",
    "sites: a section's folder beside what is passed on (nginx)": "st/a.css keep/a.css inner/x",
    "sites: a section's folder beside what is passed on (apache)": "inner/st/a.css keep/a.css inner/x",
    "site: a file behind a slash (nginx)": "about.html 410 410",
    "site: a file behind a slash (apache)": "about.html 410 410",
    "site: a page for errors that a rule answers (nginx)": "403 404",
    "site: a page for errors that a rule answers (apache)": "403 403",
    "site: a rule that stays in a section with a folder of its own (nginx)": "500 b.html 405 405",
    "site: a rule before an answer for all (nginx)": "410 410",
    "site: a rule for methods, and a page for a path that is turned away (nginx)": "404 about.html loop loop",
    "site: a rule for methods, and a page for a path that is turned away (apache)": "404 about.html 404 loop",
    "sites: names with stars inside (apache)": "rest/index.html huts/index.html huts/index.html rest/index.html rest/index.html rest/index.html rest/index.html 400 first/index.html 400",
    "sites: a folder that the name leads to, of a site whose first name has a star (nginx)": "huts/index.html 403 404 404 404 404 huts/index.html 403 huts/index.html 403 huts/index.html 403 404 404 400 400 404 404 400 400",
    "sites: a folder that the name leads to, of a site whose first name has a star (apache)": "huts/index.html 403 404 404 404 404 huts/index.html 403 huts/index.html 403 huts/index.html refused 404 404 400 400 huts/index.html 403 400 400",
    "sites: a name with a star at both ends (apache)": "huts/index.html huts/index.html huts/index.html huts/index.html huts/index.html huts/index.html first/index.html 400 first/index.html 400",
    "sites: a folder that the name leads to, {name} (nginx)": "huts/index.html 403 huts/in/x.html 403 404 404 404 404 404 404 404 404 huts/index.html 403 huts/in/x.html 403 huts/index.html 403 huts/in/x.html 403 huts/index.html 403 huts/in/x.html 403 404 404 404 404 400 400 400 400 huts/index.html 403 huts/in/x.html 404 400 400 400 400",
    "sites: a folder that the name leads to, {name} (apache)": "huts/index.html 403 huts/in/x.html 403 404 404 404 404 404 404 404 404 huts/index.html 403 huts/in/x.html 403 huts/index.html 403 huts/in/x.html 403 huts/index.html 403 huts/in/x.html refused 404 404 404 404 400 400 400 400 huts/index.html 403 huts/in/x.html 403 400 400 400 400",
    "sites: a folder that the name leads to, {label:1} (apache)": "huts/index.html 404 404 404 huts/index.html 403 huts/in/x.html 403 404 404 404 404 huts/index.html 404 404 404 huts/index.html 404 404 404 huts/index.html 404 404 404 huts/index.html 404 404 404 400 400 400 400 huts/index.html 404 404 404 400 400 400 400",
    "sites: a folder that the name leads to, {label:-1} (apache)": "huts/index.html 404 404 404 huts/index.html 404 404 404 huts/index.html 404 404 404 huts/index.html 404 404 404 huts/index.html 404 404 404 huts/index.html 404 404 404 404 404 404 404 400 400 400 400 huts/index.html 404 404 404 400 400 400 400",
    "sites: a folder that the name leads to, {label:2+} (apache)": "huts/index.html 404 404 404 huts/index.html 404 404 404 huts/index.html 404 404 404 huts/index.html 404 404 404 huts/index.html 404 404 404 huts/index.html 404 404 404 404 404 404 404 400 400 400 400 huts/index.html 404 404 404 400 400 400 400",
    "sites: a folder that the name leads to, {label:-2+} (apache)": "404 404 404 404 huts/index.html 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 400 400 400 400 404 404 404 404 400 400 400 400",
    "sites: a folder that the name leads to, {label:7} (apache)": "huts/index.html 404 404 404 huts/index.html 404 404 404 huts/index.html 404 404 404 huts/index.html 404 404 404 huts/index.html 404 404 404 huts/index.html 404 404 404 huts/index.html 404 404 404 400 400 400 400 huts/index.html 404 404 404 400 400 400 400",
    "sites: a folder that the name leads to, {label:2}/{label:1} (apache)": "404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 404 400 400 400 400 404 404 404 404 400 400 400 400",
    "sites: folders by the groups of a name (nginx)": "403 404 404 404 huts/index.html 403 huts/in/x.html 403 403 404 404 404 403 404 404 404 403 404 404 404 403 404 404 404 403 404 404 404 400 400 400 400 403 404 404 404 400 400 400 400",
    "sites: folders by two groups of a name (nginx)": "403 404 huts/index.html 404 403 404 403 404 403 404 403 404 403 404 400 400 403 404 400 400",
    "site: a maintenance (nginx)": "503 about.html 503",
    "site: a maintenance (apache)": "503 about.html 503",
    "site: no maintenance (nginx)": "index.html about.html in/index.html",
    "site: no maintenance (apache)": "index.html about.html in/index.html",
    "site: an ending that lies there (nginx)": "about.html 404 b/c.html about.html",
    "site: an ending that lies there (apache)": "about.html 404 b/c.html about.html",
    "site: rules for the documents of folders (nginx)": "about.html about.html 410 410 about.html",
    "site: rules for the documents of folders (apache)": "index.html about.html 410 410 about.html",
    "site: files beside what is passed on (nginx)": "about.html about.html inner/x 404 l.html 405 405 405 404 405",
}  # fmt: skip


@pytest.mark.parametrize("name", RULE_WORLDS)
def test_as_measured(name):
    """Question by question."""
    world = RULE_WORLDS[name]
    assert all_got(world.text, world.asked) == MEASURED[name].split()


#: A rule, and how the complaint about it begins.
UNFIT = [
    ("{when: {path: /a}}", "a rule needs its target, 'to'"),
    ("{answer: 403, to: /x}", "'answer' and 'to' are about different rules"),
    ("{answer: 301}", "expected a status, 200 to 299 or 400 to 599, found 301"),
    ("{to: /x, inner: again, status: 302}", "a rule that visitors do not see has no status"),
    ('{to: "https://elsewhere.example/", inner: again}', "expected a path of the site"),
    ("{to: /x, when: {any: [{path: old}]}}", "expected a path such as /old or /old/*"),
    ("{to: /x, when: {none: [{port: 70000}]}}", "expected a port, 1 to 65535"),
    ('{to: /x, when: {fits_header: {User-Agent: "("}}}', "expected a regular expression"),
    ("{to: /x, when: {any: [{any: [{path: /x}]}]}}", "unknown key 'any'"),
]


@pytest.mark.parametrize(("rule", "complaint"), UNFIT)
def test_what_makes_no_rule(rule, complaint):
    """One clear error, with what to do."""
    text = swap(OFFICE, (FILES, f"{FILES}            redirects: [{rule}]\n"))
    assert any(complaint in each for each in problems(text)), problems(text)


#: What makes no folder that a name leads to, and no limit of requests; and what is said of it.
UNFIT_FACTS = [
    ("rate: {requests: 0}", "found 0"),
    ("rate: {requests: 1, at_once: -1}", "found -1"),
    ("folder: /srv/{hut}", "expected {name}, {label:1} or {1}"),
    ("folder: '/srv/{label:1}'", "nginx knows no labels of a name"),
    ("folder: '/srv/{1}'", "{1} to {9} need a name pattern"),
    ("folder: '/srv/{name}'; files: [index.html]", "the name leads to many folders"),
    ("sections: [{path: /a/, folder: '/srv/{name}'}]", "only a site's own folder"),
]


@pytest.mark.parametrize(("facts", "complaint"), UNFIT_FACTS)
def test_what_a_site_cannot_say(facts, complaint):
    """Each is refused, with what it is about."""
    text = swap(OFFICE, (FILES, "".join(f"            {each}\n" for each in facts.split("; "))))
    assert any(complaint in each for each in problems(text)), problems(text)


@pytest.mark.parametrize("name", ["v*t.kestrel-ridge.example", "'*.kestrel-ridge.*'", "'*'"])
def test_where_a_star_may_stand(name):
    """nginx does not start with one in another place, or with two."""
    found = problems(swap(OFFICE, ("names: [visit.", f"names: [{name}, visit.")))
    assert any("nginx takes a star as the first or the last label only" in each for each in found), found


RATED = "            rate: {requests: 10, at_once: 5, refuses_with: 429}\n"


def test_how_often_one_address_may_ask():
    """A visit is taken to be within a limit, and told so with the answer."""
    found = ask(swap(OFFICE, (FILES, FILES + RATED)))
    step = next(each for each in found.decisions if each.kind == "within-rate")
    assert step.text == (
        "198.51.100.77 asks seldom enough: visit takes 10 requests a second and 5 more at once from one address, "
        "and refuses more with 429"
    )
    assert found.outcome.page == "visit/index.html"


def test_what_goes_on_within_is_said():
    """The step names the path before and after, at the rule."""
    rules = "            redirects: [{when: {path: /tonight}, to: /tonight.html, inner: again}]\n"
    found = ask(swap(OFFICE, (FILES, FILES + rules)), "https://visit.kestrel-ridge.example/tonight")
    step = next(each for each in found.decisions if each.kind == "goes-on-within")
    assert step.text == "visit goes on with /tonight.html in place of /tonight"
    assert got(found) == "visit/tonight.html"
