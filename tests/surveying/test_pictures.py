"""Pictures and the page: their structure, hostile names, what a browser and an accessibility engine make of them."""

import json
import re
import shutil
import subprocess
import xml.etree.ElementTree as ElementTree
from html.parser import HTMLParser
from importlib.resources import files

import pytest

from portolan.journey.expectation import expectation_for, misses
from portolan.journey.visit import visit
from portolan.public import described
from portolan.surveying.picture import picture
from portolan.surveying.plan import plan
from portolan.views import draw_svg, plan_svg
from portolan.views.style import Style
from portolan.views.svg import STYLE, Svg, wrapped
from portolan.views.words import in_words
from tests.conftest import OFFICE, STORIES, swap, world

INDEX = json.loads((STORIES / "index.json").read_text("utf-8"))
SPACE = "{http://www.w3.org/2000/svg}"


def drawn_of(ready, url, name):
    vantage = ready.estate.vantages[name]
    found = visit(ready, url, vantage)
    missed = misses(expectation_for(ready.estate, url, vantage), found)
    return picture(found, not missed, in_words(found.outcome)), found


def boxes(root):
    return [each for each in root.iter(f"{SPACE}rect") if "p-box" in each.get("class", "")]


@pytest.mark.parametrize("entry", INDEX, ids=lambda each: each["name"])
def test_the_picture_of_each_story(entry):
    """Well-formed, as wide as it says; a box for each of the model's; the break at one box, by shape and word."""
    ready = described(str(STORIES / entry["name"]))._world(None, ())
    if entry["vantage"] not in ready.estate.vantages:
        pytest.skip("asked from a place that nobody wrote")
    drawn, found = drawn_of(ready, entry["url"], entry["vantage"])
    text = "".join(draw_svg.shown(drawn, Style()))
    root = ElementTree.fromstring(text)
    assert len(boxes(root)) == sum(len(lane.boxes) for lane in drawn.lanes) > 0
    assert len(drawn.lanes) >= len(found.exchanges)
    broken = [box for lane in drawn.lanes for box in lane.boxes if box.breaks]
    words = " ".join(each.text or "" for each in root.iter(f"{SPACE}text"))
    if found.stop is not None:
        assert broken
        assert "BREAKS HERE" in words
        assert any("p-break" in each.get("class") for each in boxes(root))
    else:
        assert "BREAKS HERE" not in words
    width, height = map(float, root.get("viewBox").split()[2:])
    for each in boxes(root):
        assert float(each.get("x")) + float(each.get("width")) <= width
        assert float(each.get("y")) + float(each.get("height")) <= height
    titles = [box.title for lane in drawn.lanes for box in lane.boxes]
    assert all(title.split()[0] in words for title in titles)


def test_inner_exchanges_and_ways_back_have_lanes_of_their_own():
    """A front's own question below it, further in; an answer that takes another way, told as such."""
    front = swap(
        OFFICE,
        ("files: [index.html, tonight.html, img/dome.jpg]", 'upstream: {to: "http://10.20.0.15:8080", host: kept}'),
    )
    drawn, _ = drawn_of(world(front), "https://visit.kestrel-ridge.example/", "street")
    assert [lane.depth for lane in drawn.lanes] == [0, 1]
    assert drawn.lanes[1].boxes[-1].breaks
    ready = described(str(STORIES / "one-way-street"))._world(None, ())
    drawn, _ = drawn_of(ready, "https://bookings.kestrel-ridge.example/", "street")
    assert [lane.back for lane in drawn.lanes] == [False, True]
    assert drawn.lanes[1].boxes[-1].breaks


def test_the_picture_of_an_estate():
    """A band for each network from the internet inwards; every machine and vantage once; ways that fail first."""
    ready = described(str(STORIES / "inside-only"))._world(None, ())
    found = plan(ready)
    assert [each.name for each in found.places] == ["internet", "dome"]
    assert [each.name for place in found.places for each in place.things] == ["street", "gateway", "orion", "office"]
    assert [each.met for each in found.ways] == [False, True, True]
    root = ElementTree.fromstring("".join(plan_svg.shown(found, Style())))
    assert len(boxes(root)) == 4


def test_sixty_boxes_stay_on_the_page():
    """Smaller, eight in a row, none outside."""
    hosts = "".join(f"  h{n}: {{interfaces: {{dome: {{address: 10.20.0.{n + 60}}}}}}}\n" for n in range(60))
    found = plan(world(swap(OFFICE, ("certificates:\n", f"{hosts}certificates:\n"))))
    root = ElementTree.fromstring("".join(plan_svg.shown(found, Style())))
    assert len(boxes(root)) == 64
    assert len({each.get("x") for each in boxes(root)}) == 8
    assert max(float(each.get("x")) + float(each.get("width")) for each in boxes(root)) <= 1280


def test_text_is_cut_where_there_is_no_room():
    assert wrapped("a b c", 10, 200, 2) == ["a b c"]
    lines = wrapped("word " * 60, 10, 120, 3)
    assert (len(lines), lines[-1].endswith(" ..")) == (3, True)
    assert all(len(line) <= 24 for line in lines)


EVIL = '</text><script>alert(1)</script><img src=x onerror="document.title=1">&\'"'


def test_svg_takes_no_markup():
    svg = Svg(100, EVIL, EVIL)
    svg.text(1, 1, EVIL + "\x1b[2J\u202e", 10)
    text = svg.text_of()
    root = ElementTree.fromstring(text)
    assert {each.tag.removeprefix(SPACE) for each in root.iter()} == {"svg", "title", "desc", "style", "rect", "text"}
    assert "\x1b" not in text
    assert "\u202e" not in text


HOSTILE = swap(
    OFFICE,
    (
        "portolan: 1\n",
        "portolan: 1\ntitle: '<script>document.title=\"ran\"</script>'\nabout: '<img src=x onerror=alert(1)>'\n",
    ),
    ("  street: {", "  '<script>document.title=1</script>': {"),
    ("from: street", "from: '<script>document.title=1</script>'"),
    ("page: visit/index.html", "page: 'visit/<svg onload=alert(1)>'"),
    ("          visit:\n", "          '<b>visit':\n"),
    ("page: 'visit/", "page: '<b>visit/"),
)


class _Page(HTMLParser):
    """What a page is made of: tags with attributes, headings in their order, ids."""

    def __init__(self, text):
        super().__init__()
        self.tags, self.headings, self.ids, self.foreign = set(), [], [], []
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        self.tags.add(tag)
        held = dict(attrs)
        self.headings += [int(tag[1])] if re.fullmatch("h[1-6]", tag) else []
        self.ids += [held["id"]] if "id" in held else []
        self.foreign += [name for name in held if name.startswith("on")]
        self.foreign += [value for name, value in held.items() if name in ("src", "href") and not value.startswith("#")]


@pytest.mark.parametrize("name", ["inside-only", "first-light", "three-locks", "hostile"])
def test_the_page_needs_nothing_and_runs_nothing(program, tmp_path, name):
    """No script, nothing fetched, headings in order, ids once; every expectation and remedy told."""
    if name == "hostile":
        (tmp_path / "estate.yaml").write_text(HOSTILE, "utf-8")
    else:
        shutil.copytree(STORIES / name, tmp_path, dirs_exist_ok=True)
    done = program("report", "-o", "report.html")
    assert (done.returncode, done.stdout, done.stderr) == (0 if name == "first-light" else 1, "", "")
    text = (tmp_path / "report.html").read_text("utf-8")
    page = _Page(text)
    assert not page.tags & {"script", "img", "iframe", "link", "object", "form", "b"}
    assert page.foreign == []
    assert page.headings[0] == 1
    assert all(other <= one + 1 for one, other in zip(page.headings, page.headings[1:], strict=False))
    assert len(set(page.ids)) == len(page.ids)
    assert "default-src 'none'; style-src 'sha256-" in text
    assert "unsafe" not in text.split("<body>")[0]
    assert text.count(STYLE) == text.count("<svg")
    if name not in ("first-light", "hostile"):
        assert "What to do" in text
    if name == "inside-only":
        assert "Proven: with that, the visitor gets the page visit/index.html" in text


CHROMIUM = shutil.which("chromium")


@pytest.mark.skipif(CHROMIUM is None, reason="no Chromium is installed")
def test_a_browser_runs_nothing_and_an_accessibility_engine_finds_nothing(program, tmp_path):
    """Hostile names in a real browser: the page's title stays; axe-core: no violation of WCAG 2.1 A and AA, light and dark."""
    (tmp_path / "estate.yaml").write_text(HOSTILE, "utf-8")
    program("report", "-o", "report.html")
    text = (tmp_path / "report.html").read_text("utf-8")
    # The engine is a script: it is put into a copy without the policy, behind all that the page has.
    engine = files("axe_core_python").joinpath("axe.min.js").read_text("utf-8")
    policy = re.search(r"<meta http-equiv=\"Content-Security-Policy\"[^>]*>", text)[0]
    ask = (
        "axe.run(document,{runOnly:['wcag2a','wcag2aa','wcag21a','wcag21aa','best-practice']}).then(r=>{document.title='asked '+r.passes.length+' '+"
        "JSON.stringify(r.violations.map(v=>[v.id,v.nodes.length,v.nodes[0].html.slice(0,90)]))})"
    )
    copy = text.replace(policy, "").replace("</body>", f"<script>{engine}</script><script>{ask}</script></body>")
    (tmp_path / "asked.html").write_text(copy, "utf-8")

    def title(page, *more):
        # A browser that cannot make namespaces as root runs without; it loads two files of ours.
        shown = subprocess.run(
            [CHROMIUM, "--headless", "--no-sandbox", "--disable-gpu", "--virtual-time-budget=8000", f"--user-data-dir={tmp_path}/b", *more,
             "--dump-dom", f"file://{tmp_path / page}"],
            capture_output=True, text=True, timeout=120, check=False,
        ).stdout  # fmt: skip
        return re.search("<title>(.*?)</title>", shown, re.DOTALL)[1]

    assert title("report.html") == '&lt;script&gt;document.title="ran"&lt;/script&gt;'
    for more in ((), ("--force-dark-mode", "--blink-settings=preferredColorScheme=0")):
        told = title("asked.html", *more)
        assert told.startswith("asked ")
        passed, _, found = told.removeprefix("asked ").partition(" ")
        assert (int(passed) > 15, found) == (True, "[]")


def test_the_command_draws(program, tmp_path):
    (tmp_path / "estate.yaml").write_text(OFFICE, "utf-8")
    done = program("draw", "https://visit.kestrel-ridge.example/", "--from", "street", "-o", "way.svg")
    assert (done.returncode, done.stdout) == (0, "")
    assert ElementTree.parse(tmp_path / "way.svg").getroot().tag == f"{SPACE}svg"
    assert program("draw").stdout.startswith("<svg")
    assert program("draw", "https://gone.kestrel-ridge.example/").returncode == 1
    refused = program("draw", "--from", "street")
    assert (refused.returncode, refused.stdout) == (2, "")
