"""What the readers cannot keep of forty configurations as people write them, by distinct directive, the worst first.

python -m conformance.unread
"""

import re
import sys
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.transcribing.apache import ApacheReader
from portolan.transcribing.assembling import Transcript, add_web, transcript
from portolan.transcribing.nginx import NginxReader
from portolan.transcribing.part import Part
from portolan.transcribing.sources import Held
from portolan.transcribing.text import yaml_text

HERE = Path(__file__).parent / "configurations"
_APACHE = "Listen 80\nListen 443\nDefine APACHE_LOG_DIR /var/log/apache2\n" + "".join(
    f"LoadModule {name}_module mod_{name}.so\n"
    for name in ("rewrite", "ssl", "expires", "headers", "proxy", "proxy_http", "alias", "dir")
)


#: What a main file says before the sites: the limit that one of them names.
_MAIN = b"http { limit_req_zone $binary_remote_addr zone=one:1m rate=10r/s; include sites/*; }"


def configurations() -> Iterator[tuple[str, str, str]]:
    """Each with its program, its title and its text."""
    for program in ("nginx", "apache"):
        for part in re.split(r"^### ", (HERE / f"{program}.txt").read_text("utf-8"), flags=re.M)[1:]:
            title, _, text = part.partition("\n")
            yield program, title, text


def read(program: str, text: str) -> Transcript:
    """What a reader makes of a configuration, loaded as an estate."""
    if program == "nginx":
        source = Held({"/etc/nginx/nginx.conf": _MAIN, "/etc/nginx/sites/site": text.encode()})
        gathered = NginxReader(source, "/etc/nginx/nginx.conf").read()
    else:
        source = Held(
            {
                "/etc/apache2/apache2.conf": (_APACHE + "Include sites/*\n").encode(),
                "/etc/apache2/sites/site": text.encode(),
            }
        )
        gathered = ApacheReader(source, "/etc/apache2/apache2.conf").read()
    machine = Part(gathered.service.spot)
    certificates, copies = add_web(machine, gathered, source)
    made = transcript("server", machine, certificates, copies, {})
    texts = {path: yaml_text(document) for path, document in made.documents.items()}
    load(
        MemoryFiles({"estate.yaml": f"portolan: 1\ninclude: [{', '.join(texts)}]\n", **texts, **made.copies}),
        "estate.yaml",
    )
    return made


def main() -> int:
    """Prints them; 1 where none was read."""
    lost: Counter[str] = Counter()
    whole = count = directives = 0
    for program, title, text in configurations():
        made = read(program, text)
        held = [words for spot, words in made.unread if "certificate" not in words]
        count += 1
        whole += not held
        directives += len(re.findall(r"^\s*[A-Za-z_]+\s|[;{]\s*[a-z_]+\s", text, re.M))
        for words in held:
            lost[f"{program} {words.split(' ')[0]}"] += 1
        print(f"{program:<7} {title:<46} {'; '.join(held) if held else '-'}")
    print(f"\n{count} configurations, {whole} read whole; by directive:")
    for word, times in lost.most_common():
        print(f"{times:4}  {word}")
    return 0 if count else 1


if __name__ == "__main__":
    sys.exit(main())
