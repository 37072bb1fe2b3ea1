"""Keys that no file writes, and keys of earlier versions."""

#: Fields that readers and compilers fill; no key of the file sets them.
INTERNAL = {
    "Stated": {"place"},
    "HostsFile": {"entries"},
    "Certificate": {"pem", "key_pem"},
    "Authority": {"pem"},
    "Zone": {"data", "provided"},
    "Version": {"data"},
    "Service": {"failing"},
    "WebService": {"edge"},
    "Holding": {"absent"},
    "Bucket": {"absent"},
    "Edge": {"kind", "privileged", "state", "saved", "after_boot"},
    "SwitchedEdge": {"canonical", "program", "records", "zone"},
    "Store": {"saved", "after_boot"},
    "Site": {"page_parts"},
    "Otherwise": {"facts", "owner"},
}


#: Keys of earlier versions, and what is written now.
RENAMED = {
    "promises": "It is called 'expected' now.",
    "filter_after_boot": "Write 'after_boot: {filter: ...}' now.",
    "withdrawn": "It is called 'without' now.",
    "deny": "It is called 'drop' now.",
}
