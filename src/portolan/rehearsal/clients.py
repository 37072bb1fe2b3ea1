"""The client drivers by name."""

from portolan.rehearsal import chromium, curl
from portolan.rehearsal.client import Client

CLIENTS: dict[str, Client] = {each.name: each for each in (curl.DRIVER, chromium.DRIVER)}
