"""Redirects of an upstream turned for stated addresses, the host name as it was sent, files of passwords: as both servers do it."""

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
        program: PROGRAM
        listens: [80, 81, 82, 83, 84]
        sites:
          turned:
            listens: [80]
            files: [index.html]
            sections: [{path: /app/, upstream: {to: "http://10.7.0.20:8080/", turned: {"http://10.7.0.20:8080/": "/app/", "http://inner.example/": "/in/"}}}]
          sent: {listens: [81], upstream: {to: "http://10.7.0.20:8080/", host: as-sent}}
          kept: {listens: [82], upstream: {to: "http://10.7.0.20:8080/", host: kept}}
          gone: {listens: [83], files: [index.html], access: {password: true, password_file: missing}}
          shut: {listens: [84], files: [index.html], access: {password: true, password_file: unreadable}}
  app:
    interfaces: {lab: {address: 10.7.0.20}}
    services:
      app:
        program: nginx
        listens: [8080]
        sites:
          app:
            files: [index.html, new, x]
            redirects:
              - {when: {path: /old}, to: "http://10.7.0.20:8080/new"}
              - {when: {path: /else}, to: "http://inner.example/x"}
              - {when: {path: /me}, to: "/x"}
vantages: {desk: {network: lab, address: 10.7.0.1}, member: {network: lab, address: 10.7.0.2, knows_password: true}}
"""

#: What is asked, and what nginx and Apache httpd give: a page, a status, or the address that is led to first.
MEASURED = [
    (":80/app/old", "desk", "http://10.7.0.10/app/new", "http://10.7.0.10/app/new"),
    (":80/app/else", "desk", "http://10.7.0.10/in/x", "http://10.7.0.10/in/x"),
    (":83/", "desk", "401", "401"),
    (":83/", "member", "403", "500"),
    (":84/", "desk", "401", "401"),
    (":84/", "member", "500", "500"),
]


@pytest.mark.parametrize("case", range(len(MEASURED)))
@pytest.mark.parametrize("program", ["nginx", "apache"])
def test_as_measured(program, case):
    """Question by question."""
    where, who, nginx, apache = MEASURED[case]
    found = ask(ESTATE.replace("PROGRAM", program), f"http://10.7.0.10{where}", who)
    wanted = nginx if program == "nginx" else apache
    assert wanted in (got(found), found.exchanges[0].response.location)


def test_the_name_as_it_was_sent():
    """nginx keeps the name alone, or all of the field."""
    said = []
    for port in (81, 82):
        found = ask(ESTATE.replace("PROGRAM", "nginx"), f"http://10.7.0.10:{port}/", "desk")
        said.append(found.exchanges[0].inner[0].client.saying.host)
    assert said == ["10.7.0.10:81", "10.7.0.10"]
