"""What lies in a site's folder or on its machine, for conditions of rules; where nothing says it, what is assumed."""

from portolan.estate.machine import Machine
from portolan.estate.service import WebService
from portolan.estate.site import Site
from portolan.evidence.decision import Decision
from portolan.evidence.kinds import content as content_kinds
from portolan.http.tree import Tree, identity_of, tree_of
from portolan.source.shared import Shared


def lies_at(
    site: Site, service: WebService, machine: Machine, path: str, shared: Shared
) -> tuple[str, Decision | None]:
    """`file`, `folder`, or another word of `Look`; and the assumption that it rests on.

    Where nothing says what the folder holds, what is asked for is assumed to be there, unless the site gives nothing of a folder.
    """
    tree = tree_of(site, machine, shared)
    if tree is not None:
        found = tree.look("/".join(part for part in path.split("/") if part), identity_of(service)).what
        # A file is none behind a slash (path_resolution(7)).
        return "inside" if found == "file" and path.endswith("/") else found, None
    gives = site.folder is not None or (site.answer is None and site.upstream is None)
    # Where a site gives nothing of a folder, the program has one of its own, of which only the top is sure.
    what = ("folder" if not path.strip("/") else "nothing") if not gives else "folder" if path.endswith("/") else "file"
    return what, content_kinds.LyingAssumed(site.name, path, what, place=site.place, subject=site)


def on_machine(service: WebService, machine: Machine, path: str) -> tuple[bool, Decision | None]:
    """Whether a file lies at a path of the machine; where no folder of the machine is described there, none is assumed."""
    for home, holding in machine.folders.items():
        start = home.rstrip("/") + "/"
        if path.startswith(start):
            found = Tree(holding, home.rstrip("/")).look(path.removeprefix(start), identity_of(service))
            return found.what == "file", None
    return False, content_kinds.NoFileAssumed(machine.name, path, place=machine.place, subject=machine)
