"""Object stores: buckets of objects by key, and the addresses at which they are served as pages and as objects."""

from typing import Annotated, Literal

import msgspec

from portolan.estate.base import EstatePath, FolderPath, HostName, IPAddress, RunBy, Stated, Status, says
from portolan.estate.changing import Changing
from portolan.estate.content import PagePart, PartsRead, Takes
from portolan.estate.service import Service
from portolan.estate.site import Mark, Redirect

#: How a store finds the bucket that is asked: by the label before the address's name, by the whole host name, by what the host
#: name is an alias of, or by the first part of the path.
BucketBy = Literal["label", "name", "alias", "path"]
Way = Literal["pages", "objects"]


class Grant(Stated, frozen=True, kw_only=True, eq=False):
    """Who may do what with which objects, as it was typed: exactly one of `to`, `to_edge` and `to_account`."""

    to: Annotated[Literal["everyone"] | None, says("Everyone, known or not.")] = None
    to_edge: Annotated[
        str | None, says("One edge, which must sign its requests; by its name here.", example="front")
    ] = None
    to_account: Annotated[str | None, says("One account, which is known only where it signs.")] = None
    denies: Annotated[
        bool, says("Whether it forbids instead of allowing: that counts before every grant, whoever is meant by that.")
    ] = False
    may: Annotated[tuple[Literal["read", "list"], ...], says("What: `read` objects, `list` their keys.")] = ("read",)
    on: Annotated[
        tuple[str, ...],
        says(
            "On what, as typed: the bucket's name and an object pattern with `*` and `?`. The bucket alone is none of its "
            "objects. Left out: the bucket and all objects in it.",
            example="kestrel-images/*",
        ),
    ] = ()


class Bucket(Changing, frozen=True, kw_only=True, eq=False):
    """A bucket. Its pages are known as BUCKET/KEY."""

    name: str
    run_by: RunBy = None
    sealed: Annotated[
        bool, says("Whether it is sealed against public reading as a whole, whatever its grants say.")
    ] = False
    grants: Annotated[tuple[Grant, ...], says("Who may do what. Left out: nobody but its owner.")] = ()
    web: Annotated[bool, says("Whether it serves pages, at its store's `pages_at`.")] = False
    index_file: Annotated[
        str, says("The key given for a path that ends in a slash, behind it; at the pages' address only.")
    ] = "index.html"
    error_document: Annotated[
        str | None, says("The key whose content goes with errors, at the pages' address only.", example="error.html")
    ] = None
    error_documents: Annotated[dict[Status, str], says("The same by status, where the store takes more than one.")] = {}
    object_redirects: Annotated[
        dict[FolderPath, str],
        says(
            "Objects that send elsewhere at the pages' address (301), by key: to a path of the bucket, or an address.",
            example={"old.html": "/new.html"},
        ),
    ] = {}
    sends_all_to: Annotated[
        str | None,
        says(
            "Where every request is sent (301): a host name, with a scheme or without; the path is kept, the query is not.",
            example="https://images.kestrel-ridge.example",
        ),
    ] = None
    redirects: Annotated[
        tuple[Redirect, ...],
        says(
            "Redirect rules of its pages, first match first, as at a site: `when` knows `path` and `status`, `to` knows {scheme}, "
            "{host}, {path} and {rest}."
        ),
    ] = ()
    large: Annotated[
        bool | tuple[FolderPath, ...] | None,
        says("Whether its objects are larger than one packet, or which are, by key, as at a site."),
    ] = None
    objects: Annotated[
        tuple[str, ...] | None,
        says(
            "The keys that it holds, exact; with a `*`: all that fit. Left out (and no `copy` or `inventory`): every key asked "
            "for is assumed to exist.",
            example=["index.html", "domes/*"],
        ),
    ] = None
    copy: Annotated[
        EstatePath | None,
        says(
            "A folder of the estate whose files are its objects, read instead of `objects`. Where the estate has no such folder, "
            "there are none; beside one of nearly that name it is refused as a slip."
        ),
    ] = None
    inventory: Annotated[
        EstatePath | None,
        says("A JSON file that lists its objects, each with key, size and date, read instead of `objects`."),
    ] = None
    uploaded_under: Annotated[
        str,
        says("What stands in front of every key of `copy`, such as a folder that was uploaded whole.", example="site/"),
    ] = ""
    cache_control: Annotated[
        str | None, says("The Cache-Control that it says with its objects (RFC 9111).", example="max-age=60")
    ] = None
    takes: Takes = ()
    parts: PartsRead = None
    page_parts: tuple[PagePart, ...] = ()
    marks: Annotated[tuple[Mark, ...], says("What remedies must respect, as at a site.")] = ()
    #: Whether it is known to hold nothing, since its copy is not there.
    absent: bool = False

    @property
    def told(self) -> bool:
        """Whether anything says what it holds."""
        return self.objects is not None or self.absent


class Store(Changing, frozen=True, kw_only=True, eq=False):
    """An object store, of one region. What is left out is as rented ones are by themselves."""

    name: str
    run_by: RunBy = None
    pages_at: Annotated[
        HostName | None,
        says(
            "The name under which buckets serve pages, each at BUCKET. before it; plain only. It resolves by itself.",
            example="pages.depot.example",
        ),
    ] = None
    objects_at: Annotated[
        HostName | None,
        says(
            "The name under which it serves objects by key, at BUCKET. before it or by the first part of the path; plain and by "
            "TLS, with a certificate for the name and one label before it. It resolves by itself.",
            example="objects.depot.example",
        ),
    ] = None
    pages_addresses: Annotated[
        tuple[IPAddress, ...], says("The addresses behind `pages_at`. Left out: made up, and said as an assumption.")
    ] = ()
    objects_addresses: Annotated[
        tuple[IPAddress, ...], says("The addresses behind `objects_at`. Left out: made up, and said as an assumption.")
    ] = ()
    pages_tls: Annotated[bool, says("Whether pages are served by TLS too, with a certificate as `objects_at` has.")] = (
        False
    )
    pages_by: Annotated[tuple[BucketBy, ...], says("How the bucket is found at `pages_at`, in this order.")] = (
        "label",
        "name",
    )
    objects_by: Annotated[tuple[BucketBy, ...], says("How the bucket is found at `objects_at`, in this order.")] = (
        "label",
        "path",
    )
    seal: Annotated[
        Literal["beats-grants", "refuses-new"],
        says("What a seal does: beats grants to everyone that are written, or only keeps new ones from being saved."),
    ] = "beats-grants"
    denied_with: Annotated[Literal[401, 403], says("The status for what the asker may not read.")] = 403
    missing_unlisted: Annotated[
        Literal[403, 404], says("The status for a key that is not there, to who may not list the bucket.")
    ] = 403
    web_off: Annotated[
        Literal["not-found", "ignored"],
        says("What the pages' address does for a bucket without `web`: 404, or as if it had it."),
    ] = "not-found"
    slashless: Annotated[
        Literal["relative", "absolute", "page"],
        says(
            "What a folder asked without its slash gets at the pages' address: 302 with a path (the query is lost), 301 with an "
            "address, or its page."
        ),
    ] = "relative"
    index_needs_list: Annotated[bool, says("Whether the index file at `/` needs the right to list, too.")] = False
    redirects_first: Annotated[
        bool, says("Whether redirects without a status come before the key is looked for, or only where it is missing.")
    ] = True
    strangers: Annotated[
        tuple[str, ...], says("Names of buckets that somebody else has, since names are taken once in the world.")
    ] = ()
    buckets: Annotated[dict[str, Bucket], says("Its buckets by name.")] = msgspec.field(default_factory=dict)


class StoreDoor(Service, frozen=True, kw_only=True, eq=False):
    """One of a store's two addresses, as a program that listens; no file states it, its store does."""

    store: Store
    way: Way
    at: HostName
