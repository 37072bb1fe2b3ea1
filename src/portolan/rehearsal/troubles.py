"""Why a program did not run: the estate's doing, as it would be on a real machine, or a staging that failed.

Only what these programs are known to say for reasons that an estate gives is taken as the estate's doing.
"""

import re
from typing import Any

#: What servers say, by kind of program, when what the estate states keeps them from running.
_ESTATES = {
    "nginx": (
        r"bind\(\) to .* failed \((98|99|13):",  # in use, no such address, no right to the port
        r"still could not bind",
        r"key values mismatch|SSL_CTX_use_(PrivateKey|certificate)|X509_check_private_key|ee key too small|ca md too weak|ca key too small",
        r"no \"ssl_certificate\" is defined",
        r"host not found in upstream",
        r"invalid (port|host) in upstream",
        r"duplicate location|a duplicate default server|duplicate listen options|conflicting",
    ),
    "apache": (
        r"could not bind to address|no listening sockets available|Permission denied",
        r"(Init|AH\d+).*(does not match|key too small|Unable to configure|has no|Failed to configure|no SSL certificate)",
        r"AH02565|AH02572|AH02311|AH02577|AH01903|SSLCertificateFile",
    ),
    "program": (
        r"address already in use|cannot assign requested address|can't bind socket|could not open ports",
        r"cannot bind|failed to bind|unable to bind|address in use|not bound|binding failed",
        r"zone .* not loaded|failed to load|loading configuration",
    ),
}


def not_the_estates(result: dict[str, Any]) -> list[str]:
    """What was not staged as the estate says, in words; empty when all was."""
    found = []
    for name, state in result["daemons"].items():
        if state["running"]:
            continue
        words = str(state["words"])
        if not any(re.search(pattern, words, re.IGNORECASE) for pattern in _ESTATES.get(state["kind"], ())):
            last = words.strip().rpartition("\n")[2][-200:] or f"it ended with {state['code']}"
            found.append(f"{name} does not run here: {last}")
    return found
