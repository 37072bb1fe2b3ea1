"""An estate of any number of sites, for measuring."""

HEAD = """portolan: 1
at: 2026-03-14T20:00:00Z
networks:
  rack: {subnets: [192.0.2.0/24]}
routers:
  edge:
    interfaces:
      up: {network: internet, address: 198.51.100.1}
      rack: {address: 192.0.2.1}
certificates:
  all: {names: ["*.sites.example"], until: 2027-01-01}
vantages:
  street: {network: internet, address: 198.51.100.77}
hosts:
"""
HOSTS = 100


def big_estate(sites: int) -> str:
    """YAML text with about ten lines a site, spread over 100 hosts, with a record and an expectation for each."""
    parts = [HEAD]
    for host in range(HOSTS):
        parts.append(
            f"  h{host}:\n    interfaces:\n      rack:\n        address: 192.0.2.{host + 10}\n    services:\n      web:\n"
            "        program: nginx\n        listens:\n          - 80\n          - 443 tls\n        certificate: all\n        sites:\n"
        )
        for site in range(host, sites, HOSTS):
            parts.append(
                f"          s{site}:\n            names:\n              - s{site}.sites.example\n            folder: /srv/s{site}\n"
                "            files: [index.html, about.html]\n            redirects:\n              - when: {scheme: http}\n"
                "                to: https://{host}{path}{query}\n"
            )
    parts.append("zones:\n  sites.example:\n    records:\n")
    parts += [f"      - s{site} 3600 A 192.0.2.{site % HOSTS + 10}\n" for site in range(sites)]
    parts.append("expected:\n")
    parts += [f"  - url: https://s{site}.sites.example/\n    page: s{site}/index.html\n" for site in range(sites)]
    return "".join(parts)


def many_hosts(count: int) -> str:
    """YAML text of hosts on the internet, one site each; the record in the middle leads to the next host."""
    lines = ["portolan: 1", "at: 2026-03-14T20:00:00Z", "hosts:"]
    addresses = [f"203.{number // 62500}.{number // 250 % 250}.{number % 250 + 1}" for number in range(count + 1)]
    for number in range(count):
        site = f"s{number}: {{names: [s{number}.sites.example], files: [index.html]}}"
        lines.append(
            f"  h{number}: {{interfaces: {{internet: {{address: {addresses[number]}}}}}, services: {{web: {{program: nginx, sites: {{{site}}}}}}}}}"
        )
    lines += ["zones:", "  sites.example:", "    records:"]
    lines += [f"      - s{number} 60 A {addresses[number + (number == count // 2)]}" for number in range(count)]
    lines += ["vantages: {street: {network: internet, address: 198.51.100.77}}", "expected:"]
    lines += [f"  - {{url: 'http://s{number}.sites.example/', page: s{number}/index.html}}" for number in range(count)]
    return "\n".join(lines) + "\n"
