"""Estates about the way on which the kernel contradicted earlier versions, with what a hand-written filter leaves out stated."""

from pathlib import Path

import pytest

import portolan

FOUND = Path(__file__).parent.parent / "found" / "way"
LATE = "connect-error stalled"
OUT = "connect-error timed-out"
NAME = "http://www.example.com/"


@pytest.mark.parametrize(
    ("estate", "url", "vantage", "outcome"),
    [
        ("f1_new_only.yaml", "http://192.0.2.9/", "street", LATE),
        ("f2_reset_is_related.yaml", "http://192.0.2.9/", "street", OUT),
        ("always_pass.yaml", "http://10.0.0.5/", "v", "served"),
        ("always_pass.yaml", "http://[2001:db8:1::5]/", "v", "connect-error unreachable"),
        ("always_pass.yaml", "http://10.0.0.5/", "self", OUT),
        ("always_pass.yaml", "http://[2001:db8:1::5]/", "self", OUT),
        ("stateless.yaml", "http://203.0.113.10/", "self", OUT),
        ("stateless2.yaml", "http://192.0.2.30/", "a", OUT),
        ("mask.yaml", "http://203.0.113.10/", "street", OUT),
        ("mask-too-wide-two-legs.json", "http://192.168.2.20/", "lan", "served"),
        ("neighbour-discovery-dropped.json", NAME, "lan", "connect-error unreachable"),
        ("neighbour-discovery-dropped.json", "http://192.168.1.20/", "lan", "served"),
        ("loopback-dropped.json", "http://192.168.1.20/", "srv", OUT),
        ("own-filter-drops-dns.json", NAME, "vis", "name-error resolver-timeout"),
        ("no-gateway-and-public-name.json", NAME, "lan", "name-error resolver-timeout"),
        ("forwarder-cut-off.json", NAME, "lan", "name-error resolver-failure"),
        ("resolver-without-gateway.json", NAME, "lan", "name-error resolver-failure"),
        ("forwarded-false-invalid.yaml", "http://10.2.0.15/", "office", LATE),
        ("gateway-outside-range.yaml", "http://203.0.113.40/", "street", "served"),
        ("hosts-file-zero.yaml", "http://www.kite.example/", "pc", "connect-error refused"),
        ("mask-32-read-as-network.yaml", "http://10.1.0.15/", "office", OUT),
        ("nat-on-loopback.yaml", "http://172.17.0.1:7000/", "box", "http-error web"),
        ("second-router-port-clash.yaml", "http://203.0.113.40/", "street", "connect-error cut-off"),
        ("two-connections-at-one-box.yaml", "http://203.0.113.40/", "hall", LATE),
        ("v6-link-local-gateway.yaml", "http://[2001:db8:1::15]/", "street", "served"),
        ("v6-source-ula.yaml", "http://[2001:db8:9::9]/", "living-room", "served"),
    ],
)
def test_as_the_kernel(estate, url, vantage, outcome):
    """The outcome for a visitor, as the real thing gave it."""
    found = portolan.load(FOUND / estate).follow(url, vantage).outcome
    assert " ".join(str(each) for each in (found.kind, found.detail) if each) == outcome


def test_what_rests_on_unsaid_basics_is_listed(tmp_path):
    """The same filter that says nothing of its basics: the connection works, and what is assumed is told."""
    text = (
        (FOUND / "f1_new_only.yaml")
        .read_text()
        .replace("      basics: []\n", "")
        .replace("      stateful: false\n", "")
    )
    (tmp_path / "estate.yaml").write_text(text)
    found = portolan.load(tmp_path).follow("http://192.0.2.9/", "street")
    told = [each.text for one in found.exchanges for each in one.decisions if each.kind == "basics-assumed"]
    assert found.outcome.kind == "served"
    assert len(told) == 1
    assert "known-connections" in told[0]
