"""What `portolan transcribe` does with what was read: tells it, writes a new estate, adds to one, or compares with one."""

import argparse
import os
import re
from collections.abc import Callable
from typing import Any

from portolan.cli.errors import UsageError
from portolan.source.plain import one_line, plain
from portolan.transcribing.assembling import Transcript
from portolan.transcribing.part import items
from portolan.transcribing.sources import SourceError
from portolan.transcribing.text import yaml_text

_MOST_TOLD = 40


def wanted_name(text: str) -> str:
    """A name for the machine in the estate. Raises UsageError."""
    if not re.fullmatch(r"[A-Za-z_][A-Za-z0-9_.-]{0,63}", text):
        raise UsageError(f"--name: '{one_line(text)}' is no name for a machine", "Use letters, digits and hyphens.")
    return text


def told(arguments: argparse.Namespace, name: str, read: Callable[[], Transcript]) -> int:
    """Reads, and does what was asked for; 0 when it is written, or agrees. Raises UsageError."""
    try:
        found = read()
    except SourceError as error:
        raise UsageError(error.message, error.hint) from None
    if arguments.differs is not None:
        return _differs(arguments.differs, found)
    if arguments.output is not None:
        _write(arguments.output, name, found)
    elif arguments.into is not None:
        found = _add(arguments.into, found)
    _tell(found, arguments, name)
    return 0


def _main_text(name: str, found: Transcript) -> str:
    documents = list(found.documents)
    guessed = next((f" What was guessed is in {each}." for each in documents if each.endswith("-guessed.yaml")), "")
    return (
        f"# Read from real configuration by 'portolan transcribe'.{guessed}\n"
        f"portolan: 1\ntitle: {name}, as its configuration says\ninclude: [{', '.join(documents)}]\n"
    )


def _texts(found: Transcript) -> dict[str, bytes]:
    """The documents and copies by their paths."""
    texts: dict[str, bytes] = {}
    for path, document in found.documents.items():
        comment = (
            "Made up by 'portolan transcribe' from the names that it found: look it over."
            if path.endswith("-guessed.yaml")
            else "Read by 'portolan transcribe'; 'read_from' says from which file and line each fact is."
        )
        body = found.text if not texts and found.text is not None else yaml_text(document)
        texts[path] = f"# {comment}\n{body}".encode()
    return {**texts, **found.copies}


def _write(folder: str, name: str, found: Transcript) -> None:
    import tempfile
    from pathlib import Path

    from portolan.cli.writing import new_folder

    with tempfile.TemporaryDirectory() as made:
        root = Path(made)
        (root / "estate.yaml").write_text(_main_text(name, found), "utf-8")
        for path, data in _texts(found).items():
            (root / path).parent.mkdir(exist_ok=True)
            (root / path).write_bytes(data)
        new_folder(root, folder)


def _add(estate: str, found: Transcript) -> Transcript:
    """Adds files of the machine's own, and says what was added; what is there stays as it is."""
    from portolan.cli.question import load_path
    from portolan.cli.writing import new_file
    from portolan.transcribing.joining import beside, conflicts

    folder = estate if os.path.isdir(estate) else os.path.dirname(estate) or "."
    main = os.path.join(folder, "estate.yaml") if os.path.isdir(estate) else estate
    if not os.path.isfile(main):
        raise UsageError(
            f"'{one_line(estate)}' is no estate", "Name a folder with estate.yaml, or use -o DIR for a new one."
        )
    loaded = load_path(estate).estate
    twice = conflicts(found, loaded)
    if twice:
        raise UsageError(
            "; ".join(twice[:3]), "Nothing was written. Give the machine another --name, or ask with --differs."
        )
    found = beside(found, loaded)
    texts = _texts(found)
    taken = [path for path in texts if os.path.lexists(os.path.join(folder, path))]
    if taken:
        raise UsageError(
            f"'{one_line(os.path.join(folder, taken[0]))}' exists",
            "Give the machine another --name, or move that file away.",
        )
    for path, data in texts.items():
        target = os.path.join(folder, path)
        os.makedirs(os.path.dirname(target) or ".", exist_ok=True)
        new_file(target, data.decode("utf-8", "replace"))
    print(f"Add to '{one_line(main)}', under include: {', '.join(found.documents)}\n")
    return found


def _tell(found: Transcript, arguments: argparse.Namespace, name: str) -> None:
    document = next(iter(found.documents.values()))
    machine = document.get("hosts", {}).get(name, {})
    lines = []
    for key in ("certificates", "authorities", "zones"):
        for each, facts in document.get(key, {}).items() if not machine else ():
            lines.append(f"{key[:-1] if key != 'authorities' else 'authority'} {each}: {_of(facts)}")
    lines += _way(machine)
    for service, facts in machine.get("services", {}).items():
        if "sites" not in facts:
            continue
        sites = facts["sites"]
        idle = sum(1 for each in sites.values() if each.get("included") is False)
        words = f"{len(sites)} site{'s' if len(sites) != 1 else ''}"
        apart = f" ({idle} of them in files that nothing includes)" if idle else ""
        lines.append(f"{service}: {words}{apart}, listening on {', '.join(map(str, facts.get('listens', [])))}")
        for site, held in sites.items():
            names = ", ".join(each or "(no name)" for each in held.get("names", [])) or "every other name"
            lines.append(f"  {site}: {names}  {held['read_from'].partition(';')[0]}")
    if found.unread:
        lines += [
            "",
            f"{len(found.unread)} line{'s' if len(found.unread) != 1 else ''} could not be kept; answers that may rest on them say so:",
        ]
        lines += [f"  {spot}  {words}" for spot, words in found.unread[:_MOST_TOLD]]
        if len(found.unread) > _MOST_TOLD:
            lines.append(f"  and {len(found.unread) - _MOST_TOLD} more, under 'unread' in the estate")
    if found.guesses:
        lines += ["", *(f"guessed: {each}" for each in found.guesses)]
    place = arguments.output or arguments.into
    if place is None:
        lines += ["", "Nothing was written; -o DIR makes an estate of it."]
    else:
        lines += ["", f"It is in {place}. Next: portolan check -e {place}"]
    print("\n".join(plain(line) for line in lines))


def _way(machine: dict[str, Any]) -> list[str]:
    """A machine's interfaces and its filter, in a few words."""
    lines = []
    held = [
        f"{name} {', '.join(map(str, items(facts.get('address', 'without an address'))))}"
        for name, facts in machine.get("interfaces", {}).items()
    ]
    if held:
        lines.append(f"interfaces: {'; '.join(held)}")
    chains = [
        f"{name} {len(facts.get('rules', []))} rules, else {facts.get('default', 'allow')}"
        for name, facts in machine.get("filter", {}).items()
        if name in ("arriving", "inbound", "forward", "outbound")
    ]
    if chains:
        lines.append(f"filter: {'; '.join(chains)}")
    for key, words in (("forwards", "port forwards"), ("source_nat", "lines of source NAT")):
        if machine.get(key):
            lines.append(f"{words}: {len(machine[key])}")
    return lines


def _of(facts: dict[str, Any]) -> str:
    """What a certificate, an authority or a zone is, in a few words."""
    if "records" in facts:
        return f"{len(facts['records'])} records, served by {', '.join(facts.get('delegated_to', ['nobody named']))}"
    return f"{facts.get('file', '')}, from {facts['read_from'].partition(';')[0]}"


def _differs(estate: str, found: Transcript) -> int:
    """Tells where the estate and the source differ."""
    from portolan.cli.question import load_path
    from portolan.formats.yaml_nodes import plain_data

    held = plain_data(load_path(estate).root)
    wrong: list[str] = []
    for path, document in found.documents.items():
        if not path.endswith("-guessed.yaml"):
            _compare(document, held, "", wrong)
    for line in wrong[:_MOST_TOLD]:
        print(plain(line))
    if len(wrong) > _MOST_TOLD:
        print(f"and {len(wrong) - _MOST_TOLD} more")
    if not wrong:
        print("The estate says what the source says.")
    return 1 if wrong else 0


def _compare(said: Any, held: Any, path: str, wrong: list[str], top: bool = True) -> None:
    """What the source says against what the estate holds; of sections, only what the source has."""
    if isinstance(said, dict) and isinstance(held, dict):
        where = f" ({said['read_from'].partition(';')[0]})" if "read_from" in said else ""
        for key, value in said.items():
            if key == "read_from":
                continue
            if key not in held:
                wrong.append(f"{path}/{key}: the source has {_short(value)}, the estate has nothing{where}")
            else:
                _compare(value, held[key], f"{path}/{key}", wrong, top=not path)
        if not top:
            for key in held:
                if key not in said and key != "read_from":
                    wrong.append(f"{path}/{key}: the estate has {_short(held[key])}, the source has nothing{where}")
    elif isinstance(said, list) and isinstance(held, list) and len(said) == len(held):
        for number, (one, other) in enumerate(zip(said, held, strict=True)):
            _compare(one, other, f"{path}/{number}", wrong, top=False)
    elif str(said) != str(held) and said not in ([held], held):
        wrong.append(f"{path}: the source has {_short(said)}, the estate has {_short(held)}")


def _short(value: object) -> str:
    return one_line(str(value), 60)
