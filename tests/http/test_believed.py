"""Who the visitor is taken for behind a front, as nginx and Apache httpd do it (held against both)."""

import pytest

from tests.conftest import ask, got

ESTATE = """\
portolan: 1
at: 2026-12-01T00:00:00Z
networks: {lab: {subnets: [10.7.0.0/24]}}
hosts:
  front:
    interfaces: {lab: {address: 10.7.0.10}}
    services:
      web:
        program: nginx
        listens: [80, 81, 82]
        sites:
          says: {listens: [80], upstream: {to: "http://10.7.0.20:8080", appends: {X-Forwarded-For: "{client}"}}}
          mute: {listens: [81], upstream: "http://10.7.0.20:8080"}
          past: {listens: [82], upstream: {to: "http://10.7.0.20:9090", appends: {X-Forwarded-For: "{client}"}}}
      other: {program: apache, listens: [90], sites: {other: {upstream: "http://10.7.0.20:8080/"}}}
  app:
    interfaces: {lab: {address: 10.7.0.20}}
    services:
      app:
        program: nginx
        listens: [8080]
        believes_address: {header: X-Forwarded-For, from: [10.7.0.10/32]}
        sites: {app: {files: [index.html], access: {from: 10.7.0.1/32}}}
      httpd:
        program: apache
        listens: [9090]
        believes_address: {header: X-Forwarded-For, from: [10.7.0.10/32, 10.7.0.1/32]}
        sites: {httpd: {files: [index.html], access: {from: 10.7.0.1/32}}}
vantages:
  desk: {network: lab, address: 10.7.0.1}
  guest: {network: lab, address: 10.7.0.2}
  liar: {network: lab, address: 10.7.0.3, headers: {X-Forwarded-For: 10.7.0.1}}
"""

#: The port of the front, and what the desk, a guest, and one who says the desk's address get.
MEASURED = [
    ("10.7.0.10:80", "app/index.html", "403", "403"),
    ("10.7.0.10:81", "403", "403", "app/index.html"),
    ("10.7.0.10:82", "httpd/index.html", "403", "403"),
    ("10.7.0.10:90", "app/index.html", "403", "403"),
    ("10.7.0.20:8080", "app/index.html", "403", "403"),
]


@pytest.mark.parametrize(("where", "desk", "guest", "liar"), MEASURED)
def test_who_is_let_in(where, desk, guest, liar):
    """By the last address that a front adds, and by no other's word."""
    found = [got(ask(ESTATE, f"http://{where}/", who)) for who in ("desk", "guest", "liar")]
    assert found == [desk, guest, liar]


def test_whose_word_it_is_is_said():
    """The step names the field, who said it, and the address."""
    found = ask(ESTATE, "http://10.7.0.10/", "desk")
    (step,) = [each for each in found.decisions if each.kind == "address-believed"]
    assert step.text == "app takes 10.7.0.1 for the visitor: 10.7.0.10, which it believes, says so in x-forwarded-for"
