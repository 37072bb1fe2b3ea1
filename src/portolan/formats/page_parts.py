"""What a page takes from elsewhere, as its HTML says (HTML Living Standard sections 4.2.4, 4.8, 4.12)."""

from html.parser import HTMLParser

#: Element to the attribute that names what is taken. A `link` counts where browsers fetch it by themselves.
_TAKES = {
    "img": "src",
    "script": "src",
    "iframe": "src",
    "audio": "src",
    "video": "src",
    "source": "src",
    "embed": "src",
    "object": "data",
    "link": "href",
}
_FETCHED = {"stylesheet", "icon", "preload", "modulepreload", "manifest"}


class _Parts(HTMLParser):
    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.found: list[tuple[str, int, int]] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        held = dict(attrs)
        reference = held.get(_TAKES.get(tag, ""))
        if not reference or (tag == "link" and not _FETCHED & set((held.get("rel") or "").lower().split())):
            return
        line, column = self.getpos()
        self.found.append((reference.strip(), line, column + 1))


def parts_of(text: str) -> list[tuple[str, int, int]]:
    """Each reference with line and column (from 1) of the element that has it."""
    parser = _Parts()
    parser.feed(text)
    parser.close()
    return parser.found
