"""An estate for measuring edges and stores: a bucket behind an edge that was told many names."""


def archive(names: int) -> str:
    """An edge with so many names, half of them stars, and a bucket of a thousand objects."""
    stars = ("", "*.")
    told = "".join(f"      - '{stars[number % 2]}n{number}.images.example'\n" for number in range(names))
    keys = ", ".join(f"domes/{number}.html" for number in range(1000))
    return (
        "portolan: 1\nat: 2026-03-14T20:00:00Z\nstores:\n  depot:\n    pages_at: pages.depot.example\n    buckets:\n"
        f"      kestrel-images: {{objects: [index.html, {keys}], web: true, grants: [{{to: everyone, on: kestrel-images/*}}]}}\n"
        "edges:\n  front:\n    canonical: reef.edges.example\n    certificate: images\n"
        f"    origin: kestrel-images.pages.depot.example\n    names:\n      - images.kestrel-ridge.example\n{told}"
        "certificates: {images: {names: [images.kestrel-ridge.example]}}\n"
        "zones: {kestrel-ridge.example: {records: [images 60 CNAME reef.edges.example.]}}\n"
        "vantages: {street: {network: internet, address: 198.51.100.77}}\n"
    )
