"""A document as YAML that people read: what is short stands on one line, the order is that of the original."""

from typing import Any

import yaml

#: In C where PyYAML has it.
_Base: Any = getattr(yaml, "CSafeDumper", yaml.SafeDumper)


class _Dumper(_Base):  # type: ignore[misc]
    """Never an anchor: every object has a line of its own."""

    def represent_sequence(self, tag: str, sequence: Any, flow_style: bool | None = None) -> yaml.nodes.SequenceNode:
        """Short lists on one line, long ones an item a line."""
        short = sum(len(str(each)) for each in sequence) < 70
        made: yaml.nodes.SequenceNode = super().represent_sequence(tag, sequence, flow_style if short else False)
        return made

    def ignore_aliases(self, _data: Any) -> bool:
        """Always."""
        return True


def yaml_text(document: dict[str, Any]) -> str:
    """The document's text."""
    body: str = yaml.dump(
        document, Dumper=_Dumper, sort_keys=False, allow_unicode=True, width=200, default_flow_style=None, indent=2
    )
    return body
