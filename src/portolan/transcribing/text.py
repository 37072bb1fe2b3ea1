"""A document as YAML that people read: what is short stands on one line, the order is that of the original."""

from typing import Any

import yaml


class _Dumper(yaml.SafeDumper):
    """Never an anchor: every object has a line of its own."""

    def represent_sequence(self, tag: str, sequence: Any, flow_style: bool | None = None) -> yaml.nodes.SequenceNode:
        """Short lists on one line, long ones an item a line."""
        short = sum(len(str(each)) for each in sequence) < 70
        return super().represent_sequence(tag, sequence, flow_style if short else False)

    def ignore_aliases(self, _data: Any) -> bool:
        """Always."""
        return True


def yaml_text(document: dict[str, Any], *comment: str) -> str:
    """The document's text, with lines of comment before it."""
    body = yaml.dump(
        document, Dumper=_Dumper, sort_keys=False, allow_unicode=True, width=200, default_flow_style=None, indent=2
    )
    return "".join(f"# {line}\n" for line in comment) + body
