"""The text view of `check`."""

from portolan.estate.estate import Estate
from portolan.faults.base import Finding
from portolan.views.style import Style, row


def counted(number: int, word: str) -> str:
    """A number with its noun."""
    return f"{number} {word}" if number == 1 else f"{number} {word}s"


def check_text(estate: Estate, findings: list[Finding], style: Style) -> str:
    """Every finding with its spot, then what was read."""
    lines: list[str] = []
    for finding in findings:
        bad = finding.severity == "error"
        spot = str(finding.place.span) if finding.place is not None else "(estate)"
        mark = style.ink(style.bad if bad else "!", "bad" if bad else "warn", "bold")
        lines.append(f"{style.safe(spot)}: {style.ink(finding.severity, 'bad' if bad else 'warn')}: {finding.code}")
        lines += row(style, f"  {mark} ", 4, finding.text)
    sites = sum(len(service.sites) for machine in (*estate.routers.values(), *estate.hosts.values())
                for service in machine.services.values())  # fmt: skip
    read = ", ".join((counted(len(estate.routers), "router"), counted(len(estate.hosts), "host"), counted(sites, "site"),
                      counted(len(estate.zones), "zone"), counted(len(estate.promises), "promise")))  # fmt: skip
    errors = sum(finding.severity == "error" for finding in findings)
    if findings:
        lines.append("")
        verdict = f"{counted(errors, 'error')}, {counted(len(findings) - errors, 'warning')}"
    else:
        verdict = "nothing wrong was found"
    ink = "bad" if errors else "good"
    lines += row(
        style,
        style.ink(f"{style.bad if errors else style.good} ", ink, "bold"),
        2,
        f"{verdict}; read: {read}",
        ink=(ink, "bold"),
    )
    return "\n".join(lines) + "\n"
