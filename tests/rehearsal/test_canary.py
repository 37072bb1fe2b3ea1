"""Whatever an estate says, a rehearsal of it changes, reads, serves and runs nothing outside its confinement."""

import json
from datetime import UTC, datetime
from pathlib import Path

import pytest

from portolan.estate.url import BadUrlError
from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.journey.visit import visit
from portolan.journey.world import World
from portolan.rehearsal.quoting import UnstageableError
from portolan.rehearsal.run import RehearsalError, Staging, confinement, plan_of, rehearse
from portolan.source.problem import EstateError
from tests.rehearsal.test_plan import able

FOUND = Path(__file__).parent.parent / "found" / "staging"
SECRET = "what-only-the-outside-knows"
needs_stage = pytest.mark.skipif(not able(), reason="needs namespaces and the servers' packages; .ci/run installs them")


@pytest.fixture
def outside(tmp_path):
    """A folder that anybody may write to, with a secret that anybody may read; its path, and a check of both."""
    folder = tmp_path / "outside"
    folder.mkdir()
    folder.chmod(0o777)
    for above in folder.parents:
        if str(above).startswith("/tmp/"):
            above.chmod(0o755)
    (folder / "secret").write_text(f"victim 60 TXT {SECRET}\n{SECRET}\n")
    yield folder
    assert [each.name for each in folder.iterdir()] == ["secret"]
    assert SECRET in (folder / "secret").read_text()


@needs_stage
@pytest.mark.parametrize("path", sorted(FOUND.glob("*.yaml")), ids=lambda path: path.stem)
def test_what_was_found(program, tmp_path, outside, path):
    """Estates that once ran commands, or wrote or read files: refused with their place, or harmless and right."""
    text = (
        path.read_text("utf-8")
        .replace("/injected", str(outside))
        .replace("injected%2f", str(outside)[1:].replace("/", "%2f") + "%2f")
    )
    (tmp_path / "estate.yaml").write_text(text.replace("..%2finjected/", f"..%2f{str(outside)[1:]}/"))
    done = program("rehearse", "--format", "json")
    assert SECRET not in done.stdout + done.stderr
    assert done.returncode in (0, 2), done.stdout
    if done.returncode == 2:
        assert "estate.yaml:" in done.stderr
    else:
        assert json.loads(done.stdout)["disagreements"] == 0


def hostile(outside):
    """Thirty values that mean something to a shell, a configuration, a master file, a path, or a terminal."""
    here = str(outside)
    return [
        f"$(touch {here}/x)", f"`touch {here}/x`", f"; touch {here}/x;", f"|touch {here}/x", f"& touch {here}/x &", f"x\ntouch {here}/x\n",
        f'"; }} server {{ listen 81; location / {{ root {here}; }} }} #', f'" [R]\n  ErrorLog "|touch {here}/x', f"'; include {here}/secret; '",
        f"$include {here}/secret", f"$INCLUDE {here}/secret ;", f"../../../../../..{here}/x", f"..%2f..%2f..%2f..{here.replace('/', '%2f')}%2fx", f"{here}/secret",
        f"file://{here}/secret", f"@{here}/secret", f"-o{here}/x", "$document_root", "${PATH}", "%{ENV:PATH}", "{host}$1%1", "a\\", '"', "'", "#x", "a b\tc", "\u202ex\u200b",
        "x" * 300, "\x1b]0;x\x07", "a.example;b",
    ]  # fmt: skip


#: Where an estate takes text; `?` is replaced by the value.
PLACES = {
    "title": "?", "about": "?", "networks/?/subnets": ["10.9.0.0/24"], "hosts/?/interfaces/dome/address": "10.20.0.99",
    "hosts/orion/interfaces/?/network": "dome", "hosts/orion/services/?/listens": [8081], "hosts/orion/services/web/sites/?/names": ["x.example"],
    "hosts/orion/services/web/sites/visit/names": ["visit.kestrel-ridge.example", "?"], "hosts/orion/services/web/sites/visit/folder": "?",
    "hosts/orion/services/web/sites/other/files": ["index.html", "?"], "hosts/orion/services/web/sites/visit/index_files": ["?", "index.html"],
    "hosts/orion/services/web/sites/visit/redirects": [{"when": {"path": "/old"}, "to": "?"}],
    "hosts/orion/services/second/sites/page/redirects": [{"when": {"path": "/?"}, "to": "/"}],
    "hosts/orion/services/second/sites/page/redirects/0/to": "https://a.example/?", "hosts/orion/services/second/sites/page/answer": 404,
    "hosts/orion/services/web/saved/broken": "?", "hosts/orion/local_name": "?.local", "hosts/orion/search": ["?"], "hosts/orion/filter/chains/?/rules": [],
    "hosts/orion/filter/areas/?": {"default": True, "services": ["http"]}, "hosts/orion/filter/areas/all": {"default": True, "services": ["?"]}, "certificates/?/names": ["a.example"],
    "certificates/visit/names": ["visit.kestrel-ridge.example", "?"], "authorities/?/public": True, "authorities/house/caa_names": ["?"],
    "zones/?/records": ["@ A 192.0.2.1"], "zones/kestrel-ridge.example/records": ["visit A 10.20.0.15", "? A 192.0.2.1", "x CNAME ?"],
    "zones/kestrel-ridge.example/before": [{"until": "2026-03-01", "records": ["visit TXT ?"]}],
    "zones/other.example/records": ["x TXT ?", "y TXT \"?\""], "zones/other.example/delegated_to": ["?"], "zones/other.example/keys": ["?"],
    "zones/other.example/ds": ["?"], "zones/other.example/views/?": {"for": ["10.0.0.0/8"], "records": ["@ A 192.0.2.2"]},
    "vantages/desk/hosts_file/lines": ["10.20.0.15 visit.kestrel-ridge.example", "10.20.0.15 ?"], "vantages/desk/search": ["?"], "vantages/?/host": "orion",
    "expectations/1/url": "http://10.20.0.15/?", "expectations/1/page": "?",
    "edges/own": {"program": "nginx", "addresses": "192.0.2.1", "names": ["visit.kestrel-ridge.example", "?"], "origin": "?"},
    "edges/second": {"program": "nginx", "addresses": "192.0.2.1", "origin": {"at": "192.0.2.9", "prefix": "/?", "host": "?", "sends": {"X-Y": "?"}}, "error_pages": {"404": "/?"}},
    "edges/?": {"program": "nginx", "addresses": "192.0.2.1", "index_file": "?", "key_headers": ["?"], "passes_scheme_as": "?", "access": {"headers": {"X-Y": "?"}}, "origin": "192.0.2.9"},
    "edges/rented": {"canonical": "?", "names": ["?"], "index_file": "?", "error_pages": {"404": "/?"}, "origin": {"at": "?", "sends": {"?": "?"}}, "holds": [{"url": "http://a.example/?", "since": "2026-01-01", "page": "?"}]},
    "stores/?": {"pages_at": "pages.example", "strangers": ["?"], "buckets": {"a": {"objects": ["?"], "grants": [{"to": "everyone", "on": "?"}], "error_document": "?", "index_file": "?"}}},
    "stores/one": {"objects_at": "objects.example", "buckets": {"?": {"redirects": [{"when": {"path": "?"}, "to": "?"}], "sends_all_to": "?", "cache_control": "?"}}},
}  # fmt: skip


def base():
    """A small estate that serves two pages."""
    return {
        "portolan": 1, "networks": {"dome": {"subnets": ["10.20.0.0/24"]}},
        "hosts": {"orion": {"interfaces": {"dome": {"address": "10.20.0.15"}}, "services": {
            "web": {"program": "nginx", "listens": [80], "sites": {"visit": {"names": ["visit.kestrel-ridge.example"]}, "other": {}}},
            "second": {"program": "apache", "listens": [8080], "sites": {"page": {"redirects": [{"when": {"path": "/old"}, "to": "/"}]}}}}}},
        "zones": {"kestrel-ridge.example": {"records": ["visit A 10.20.0.15"]}, "other.example": {"records": ["@ A 192.0.2.1"]}},
        "authorities": {"house": {}}, "certificates": {"visit": {"names": ["visit.kestrel-ridge.example"]}},
        "vantages": {"desk": {"network": "dome", "address": "10.20.0.50", "hosts_file": {"lines": ["10.20.0.15 visit.kestrel-ridge.example"]}}},
        "expected": [{"url": "http://visit.kestrel-ridge.example/"}, {"url": "http://10.20.0.15:8080/"}],
    }  # fmt: skip


def with_value(estate, path, value, text):
    """The estate with a value at a path, and the text in the place of every `?`."""
    *keys, last = [key.replace("?", text) for key in path.split("/")]
    filled = json.loads(json.dumps(value).replace("?", json.dumps(text)[1:-1]))
    held = estate
    for key in keys:
        held = held[int(key)] if isinstance(held, list) else held.setdefault(key, {})
    if isinstance(held, list):
        held[int(last)] = filled
    else:
        held[last] = filled
    return estate


def questions(estate):
    """Every expectation from the desk, with what is predicted."""
    world = World(estate, estate.at or WHEN)
    return [
        (str(each.url), estate.vantages["desk"], visit(world, str(each.url), estate.vantages["desk"]))
        for each in estate.expected
    ]


WHEN = datetime(2026, 3, 14, tzinfo=UTC)


@needs_stage
def test_a_thousand_hostile_values(outside):
    """Each value in every text key: refused at its place when loaded or planned, else staged, and nothing comes of it."""
    own = confinement()
    refused = staged = 0
    for text in hostile(outside):
        batches = [base()]
        for path, value in PLACES.items():
            alone = loaded(with_value(base(), path, value, text))
            if alone is None or not planned(alone):
                refused += 1
                continue
            staged += 1
            # As many together as go together, so that each is staged once.
            for number, held in enumerate(batches):
                more = with_value(json.loads(json.dumps(held)), path, value, text)
                if loaded(more) is not None:
                    batches[number] = more
                    break
            else:
                batches.append(with_value(base(), path, value, text))
        for data in batches:
            estate = loaded(data)
            try:
                found = rehearse(Staging(estate, WHEN), questions(estate), own, unsaid="nginx", evidence=True)
            except RehearsalError as error:
                assert SECRET not in str(error)
                continue
            assert SECRET not in str([(each.observed, each.evidence) for each in found.comparisons])
    assert refused + staged >= 1000
    assert staged > 500


def loaded(data):
    """The estate, or None where it is refused."""
    try:
        return load(MemoryFiles({"estate.json": json.dumps(data)}), "estate.json").estate
    except EstateError as error:
        assert "estate.json:" in str(error)
        return None


def planned(estate):
    """Whether it can be staged."""
    try:
        plan_of(Staging(estate, WHEN), [(url, vantage) for url, vantage, _ in questions(estate)])
    except (UnstageableError, BadUrlError):
        return False
    return True
