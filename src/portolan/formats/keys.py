"""Keys that no file writes, and keys of earlier versions."""

#: Fields that readers and compilers fill; no key of the file sets them.
INTERNAL = {
    "Stated": {"place"},
    "HostsFile": {"entries"},
    "Certificate": {"pem", "key_pem", "misread", "key_misread", "key_misread_strictly"},
    "Authority": {"pem"},
    "Zone": {"data", "provided"},
    "Version": {"data"},
    "Service": {"failing"},
    "WebService": {"edge"},
    "Holding": {"absent"},
    "Bucket": {"absent", "page_parts"},
    "Edge": {"kind", "privileged", "state", "saved", "after_boot"},
    "SwitchedEdge": {"canonical", "program", "records", "zone"},
    "Store": {"saved", "after_boot"},
    "Site": {"page_parts"},
    "Otherwise": {"facts", "owner"},
}


#: Keys of earlier versions, and what is written now; `an object: key` where another object has that key still.
RENAMED = {
    "promises": "It is called 'expected' now.",
    "filter_after_boot": "Write 'after_boot: {filter: ...}' now.",
    "withdrawn": "It is called 'without' now.",
    "deny": "It is called 'drop' now.",
    "default_documents": "It is called 'index_files' now.",
    "default_document": "It is called 'index_file' now.",
    "no_document": "It is called 'no_index_file' now.",
    "default_needs_list": "It is called 'index_needs_list' now.",
    "rules_first": "It is called 'redirects_first' now.",
    "a bucket: rules": 'Write \'redirects\' as at a site now: {when: {path: "/old/*"}, to: "/new/{rest}"}.',
    "a redirect: prefix": "Write 'when: {path: \"/old/*\"}' now.",
    "a redirect: on_status": "Write 'when: {status: 404}' now.",
    "a redirect: prefix_becomes": "Write 'to: \"/new/{rest}\"' now.",
    "a redirect: key_becomes": "Write the whole path in 'to' now.",
    "a redirect: to_name": "Write the name in 'to' now: \"https://name.example{path}\".",
    "a redirect: to_scheme": "Write the scheme in 'to' now: \"https://{host}{path}\".",
    "a list rule: number": "The lines count in the order in which they stand: take the numbers away.",
}
