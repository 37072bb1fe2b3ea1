"""What lies in a folder that a web server serves, and who may read it."""

from typing import Annotated, Literal

from portolan.estate.base import EstatePath, FolderPath, Rights, Stated, says


class Holding(Stated, frozen=True, kw_only=True, eq=False):
    """What a folder holds: files, their rights, links."""

    files: Annotated[
        tuple[str, ...] | None,
        says(
            "What the folder holds, as paths relative to it; a folder ends in a slash. Left out (and no `copy` or "
            "`inventory`): every file asked for is assumed to exist.",
            example=["index.html", "img/dome.jpg"],
        ),
    ] = None
    copy: Annotated[
        EstatePath | None,
        says(
            "A folder of the estate that holds a copy of the content, read instead of `files`. Where the estate has no such "
            "folder, the content is missing; beside one of nearly that name it is refused as a slip."
        ),
    ] = None
    inventory: Annotated[
        EstatePath | None,
        says(
            "A file of the estate that lists the content with its rights, read instead of `files`: the output of `ls -lR`, "
            "`find -ls`, `find -printf '%M %u %g %p\\n'`, `stat -c '%A %U %G %n'` or `tar -tvf`.",
            example="inventories/visit.txt",
        ),
    ] = None
    rights: Annotated[
        dict[FolderPath, Rights],
        says(
            "Mode, owner and group of files and folders, by path: relative to the folder (`.` is the folder itself), or "
            "absolute for the folders above it. What is not listed can be read."
        ),
    ] = {}
    unreadable: Annotated[
        tuple[FolderPath, ...],
        says(
            "Files and folders that the service may not read for other reasons than their mode (access lists, labels), and "
            "all below those folders."
        ),
    ] = ()
    links: Annotated[
        dict[FolderPath, str],
        says("Symbolic links by path, with what they lead to: relative to where they stand, or absolute."),
    ] = {}
    large: Annotated[
        bool | tuple[FolderPath, ...] | None,
        says(
            "Whether the files are larger than one packet (about 1,000 octets); or those that are, by their paths. Left "
            "out: an inventory may say; else it is not known, and told where it would decide."
        ),
    ] = None
    #: Whether it is known to hold nothing, since it is not there.
    absent: bool = False

    @property
    def told(self) -> bool:
        """Whether anything says what it holds."""
        return self.files is not None or self.absent


class Folder(Holding, frozen=True, kw_only=True, eq=False):
    """A folder on a machine. Where a machine states its folders, sites find their content in them, and nowhere else."""

    name: str


class PageTakes(Stated, frozen=True, kw_only=True, eq=False):
    """What one page takes from elsewhere."""

    page: Annotated[str, says("The page: a file of the site's folder, a key of the bucket.", example="index.html")]
    parts: Annotated[
        tuple[str, ...],
        says(
            "What it takes, as it is written there: an address, or one that is relative to the page.",
            example=["style.css", "https://images.kestrel-ridge.example/dome.jpg"],
        ),
    ]


class PagePart(Stated, frozen=True, kw_only=True, eq=False):
    """What a page takes from elsewhere: an image, a style sheet, a script."""

    page: str
    reference: str


#: What a site's pages or a bucket's take from elsewhere: as it is written, and whether it is read from the pages.
Takes = Annotated[
    tuple[PageTakes, ...],
    says(
        "What its pages take from elsewhere (images, styles, scripts): whoever asks for such a page is told which of it do not come."
    ),
]
PartsRead = Annotated[
    Literal["check"] | None,
    says("With `copy`: whether what its pages take from elsewhere is read from the pages, as if it stood in `takes`."),
]
