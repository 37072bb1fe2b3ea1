"""Originals in memory, and what is read of them."""

import pytest

from portolan.formats.estate_file import load
from portolan.formats.files import MemoryFiles
from portolan.transcribing.apache import ApacheReader
from portolan.transcribing.assembling import add_web, transcript
from portolan.transcribing.nginx import NginxReader
from portolan.transcribing.part import Part
from portolan.transcribing.sources import Held
from portolan.transcribing.text import yaml_text


def estate_of(made):
    """The estate that a transcript is, read anew from its text."""
    texts = {path: yaml_text(document) for path, document in made.documents.items()}
    main = f"portolan: 1\ninclude: [{', '.join(texts)}]\n"
    return load(MemoryFiles({"estate.yaml": main, **texts, **made.copies}), "estate.yaml").estate


def _read(reader, files, main):
    source = Held({path: text.encode() for path, text in files.items()})
    gathered = reader(source, main).read()
    machine = Part(gathered.service.spot)
    certificates, copies = add_web(machine, gathered, source)
    return transcript("server", machine, certificates, copies, {})


def nginx_of(http, **files):
    """What is read of nginx's configuration: the text within `http`, and further files by their paths."""
    return _read(NginxReader, {"/etc/nginx/nginx.conf": f"http {{\n{http}\n}}\n", **files}, "/etc/nginx/nginx.conf")


def apache_of(text, **files):
    """The same of Apache httpd's."""
    return _read(ApacheReader, {"/etc/apache2/apache2.conf": text, **files}, "/etc/apache2/apache2.conf")


def sites_of(made):
    """The sites of the only web server, as the estate has them."""
    (service,) = estate_of(made).hosts["server"].services.values()
    return service.sites


@pytest.fixture
def archive(tmp_path):
    """Makes a tar archive of files, and says where it is."""
    import io
    import tarfile

    def made(files, times=None):
        path = tmp_path / "answers.tar"
        with tarfile.open(path, "w") as archive:
            for name, text in files.items():
                data = text.encode()
                member = tarfile.TarInfo(name.lstrip("/"))
                member.size, member.mtime = len(data), (times or {}).get(name, 0)
                archive.addfile(member, io.BytesIO(data))
        return path

    return made
