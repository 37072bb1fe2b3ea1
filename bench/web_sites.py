"""Estates for measuring the web engine: many sites on one listener, and fronts one behind the other."""


def many_sites(count: int) -> str:
    """A server with so many sites, exact names, stars and a default."""
    sites = "".join(
        f"          s{number}: {{names: [s{number}.sites.example, '*.t{number}.sites.example'], files: [index.html]}}\n"
        for number in range(count)
    )
    return (
        "portolan: 1\nhosts:\n  orion:\n    interfaces: {internet: {address: 203.0.113.40}}\n    services:\n      web:\n"
        f"        program: nginx\n        listens: [80]\n        sites:\n{sites}"
        "vantages: {street: {network: internet, address: 198.51.100.77}}\n"
    )


def fronts(count: int) -> str:
    """So many fronts, each before the next, and the site behind the last."""
    text = "portolan: 1\nat: 2026-03-14T20:00:00Z\nnetworks: {dome: {subnets: [10.20.0.0/24]}}\nhosts:\n"
    for number in range(count + 1):
        outside = "line: {network: internet, address: 203.0.113.40}, " if number == 0 else ""
        gives = (
            f'upstream: {{to: "http://10.20.0.{number + 11}:8080", host: kept}}'
            if number < count
            else "files: [index.html]"
        )
        text += (
            f"  f{number}:\n    interfaces: {{{outside}dome: {{address: 10.20.0.{number + 10}}}}}\n    services:\n"
            f"      web:\n        program: {'nginx' if number % 2 else 'apache'}\n        listens: [{80 if number == 0 else 8080}]\n"
            f"        sites: {{visit: {{names: [visit.kestrel-ridge.example], {gives}}}}}\n"
        )
    return (
        text
        + "zones: {kestrel-ridge.example: {records: [visit 60 A 203.0.113.40]}}\n"
        + "vantages: {street: {network: internet, address: 198.51.100.77}}\n"
    )
