"""Builds both archives so that the same sources give the same bytes (reproducible-builds.org, SOURCE_DATE_EPOCH).

The work is setuptools'; what depends on when, where and by whom it was done is taken out of what it made.
"""

import gzip
import io
import os
import tarfile
import zipfile
from pathlib import Path

from setuptools import build_meta
from setuptools.build_meta import *  # noqa: F403  the rest of the build interface (PEP 517) as it is

#: When nothing says a time: the beginning of 2026, in UTC. Zip knows none before 1980.
_TIME = 1_767_225_600


def _time() -> int:
    return max(int(os.environ.get("SOURCE_DATE_EPOCH", _TIME)), 315_532_800)


def _mode(executable: bool) -> int:
    return 0o755 if executable else 0o644


def build_sdist(sdist_directory, config_settings=None):  # type: ignore[no-untyped-def]
    """The source archive: sorted, of one time, of nobody, with plain modes."""
    name = build_meta.build_sdist(sdist_directory, config_settings)
    path = Path(sdist_directory, name)
    held = io.BytesIO()
    with tarfile.open(path) as old, tarfile.open(fileobj=held, mode="w", format=tarfile.PAX_FORMAT) as new:
        for each in sorted(old.getmembers(), key=lambda each: each.name):
            made = tarfile.TarInfo(each.name)
            made.type, made.size, made.mtime = each.type, each.size, _time()
            made.mode = _mode(each.isdir() or bool(each.mode & 0o100))
            new.addfile(made, old.extractfile(each) if each.isfile() else None)
    with path.open("wb") as file, gzip.GzipFile("", "wb", 9, file, _time()) as packed:
        packed.write(held.getvalue())
    return name


def build_wheel(wheel_directory, config_settings=None, metadata_directory=None):  # type: ignore[no-untyped-def]
    """The wheel: in its own order, with its RECORD last, of one time, with plain modes."""
    name = build_meta.build_wheel(wheel_directory, config_settings, metadata_directory)
    path = Path(wheel_directory, name)
    with zipfile.ZipFile(path) as old:
        parts = [(each, old.read(each)) for each in old.infolist()]
    parts.sort(key=lambda each: (each[0].filename.endswith(".dist-info/RECORD"), each[0].filename))
    from time import gmtime

    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as new:
        for each, data in parts:
            made = zipfile.ZipInfo(each.filename, gmtime(_time())[:6])
            made.compress_type, made.create_system = zipfile.ZIP_DEFLATED, 3
            made.external_attr = (0o100000 | _mode(bool(each.external_attr >> 16 & 0o100))) << 16
            new.writestr(made, data)
    return name
