"""Every reader of a web server's configuration, and how what was given is opened for one."""

import os
import posixpath
import re

from portolan.source.plain import one_line
from portolan.transcribing.apache import ApacheReader
from portolan.transcribing.nginx import NginxReader
from portolan.transcribing.sources import (
    MOST_BYTES,
    Held,
    Live,
    Source,
    SourceError,
    from_archive,
    from_folder,
    read_named,
)
from portolan.transcribing.web import Gathered

WebReader = type[NginxReader] | type[ApacheReader]
WEB: tuple[WebReader, ...] = (NginxReader, ApacheReader)
#: What stands before each file where nginx prints all that it has read.
_DUMPED = re.compile(r"^# configuration file (\S[^\n]*):$", re.M)


def read_web(path: str, host: str | None = None) -> tuple[Gathered, Source]:
    """A web server's configuration in a folder, an archive, a main file or a dump, and its files. Raises SourceError."""
    source, named = opened(path)
    for reader in WEB:
        main = named or _main(source, reader)
        if main is None:
            continue
        text = (source.read(main) or b"").decode("utf-8", "replace")
        if named is None or reader.recognises(text):
            return reader(source, main, host).read(), source
    homes = ", ".join(posixpath.basename(reader.homes[0]) for reader in WEB)
    raise SourceError(
        f"'{one_line(path)}' holds no web server's configuration known here ({homes})",
        "Name the folder that holds that file, or the file itself.",
    )


def every_web(source: Source, host: str | None = None) -> list[Gathered]:
    """Each web server whose main file is among a machine's files."""
    found = []
    for reader in WEB:
        main = _main(source, reader)
        if main is not None:
            found.append(reader(source, main, host).read())
    return found


def _main(source: Source, reader: WebReader) -> str | None:
    """The main file: where it lies as installed, else the shallowest of its name."""
    paths = list(source.paths())
    for home in reader.homes:
        if home in paths:
            return home
    names = {posixpath.basename(home) for home in reader.homes}
    held = [path for path in paths if posixpath.basename(path) in names]
    return min(held, key=lambda each: (each.count("/"), each), default=None)


def opened(path: str) -> tuple[Source, str | None]:
    """What was given, as the machine's own files, and the main file where one was named. Raises SourceError."""
    try:
        if os.path.isdir(path):
            return _folder(path), None
    except OSError as error:
        raise SourceError(f"cannot read '{one_line(path)}': {error.strerror or error}", "Check the path.") from None
    data = read_named(path)
    if len(data) > MOST_BYTES:
        raise SourceError(
            f"'{one_line(path)}' has more than {MOST_BYTES // 1_000_000} MB", "Name the configuration itself."
        )
    if data[257:262] == b"ustar" or data[:2] == b"\x1f\x8b" or data[:3] == b"BZh" or data[:6] == b"\xfd7zXZ\x00":
        return from_archive(data, path), None
    if b"\0" in data[:4096]:
        raise SourceError(f"'{one_line(path)}' is no text", "Name a configuration file, its folder, or a tar archive.")
    text = data.decode("utf-8", "replace")
    dumped = list(_DUMPED.finditer(text))
    if dumped:
        return _dump(text, dumped), None
    folder = os.path.dirname(os.path.abspath(path))
    source = _folder(folder)
    main = posixpath.join(_seen_at(folder), os.path.basename(path))
    if NginxReader.recognises(text) and not re.search(r"^\s*http\s*\{", text, re.M):
        # Only a site's file: as if the main file took it in.
        wrapped = {each: source.read(each) or b"" for each in source.paths()}
        home = posixpath.join(_seen_at(folder), "(the main file)")
        return Held({**wrapped, home: f'http {{ include "{main}"; }}'.encode()}), home
    return source, main


def text_of(path: str) -> str:
    """A file's text. Raises SourceError."""
    data = read_named(path)
    if len(data) > MOST_BYTES or b"\0" in data:
        raise SourceError(f"'{one_line(path)}' is no text of a filter", "Save it anew.")
    return data.decode("utf-8", "replace")


def _dump(text: str, marks: "list[re.Match[str]]") -> Held:
    """The files that nginx printed one behind the other; each keeps its own lines."""
    files: dict[str, bytes] = {}
    for mark, follower in zip(marks, [*marks[1:], None], strict=True):
        body = text[mark.end() + 1 : follower.start() if follower is not None else len(text)]
        files.setdefault(mark[1], body.encode())
    # What is printed first is the main file.
    first = marks[0][1]
    if first not in NginxReader.homes:
        files[posixpath.join(posixpath.dirname(first), "nginx.conf")] = files[first]
    return Held(files)


def _folder(path: str) -> Held:
    at = _seen_at(path)
    return Live(path, at) if os.path.realpath(path) == at else from_folder(path, at)


def _seen_at(path: str) -> str:
    """Where on its machine a folder lay: what its path ends in, where that is a place where configuration lies."""
    whole = os.path.realpath(path)
    for home in ("/etc/nginx", "/etc/apache2", "/etc/httpd", "/usr/local/etc/nginx"):
        if whole.endswith(home):
            return home
        if os.path.isdir(os.path.join(whole, home[1:])):
            return "/"
    held = set(os.listdir(whole))
    if "portolan-answers" in held:
        return "/"
    if "nginx.conf" in held:
        return "/etc/nginx"
    if "apache2.conf" in held:
        return "/etc/apache2"
    return "/etc/httpd" if {"conf", "conf.d"} <= held else "/"
