"""Large originals for the readers: a web server's folder of many sites, and a long table of a packet filter."""

from pathlib import Path

_SITE = """server {{
    listen 80;
    listen 443 ssl;
    server_name s{0}.sites.example www.s{0}.sites.example;
    root /srv/s{0};
    index index.html;
    ssl_certificate /etc/ssl/s{0}.pem;
    ssl_certificate_key /etc/ssl/s{0}.key;
    location / {{ try_files $uri $uri/ =404; }}
    location /img/ {{ expires 30d; }}
    location ~ \\.php$ {{ return 403; }}
}}
"""


def many_files(folder: Path, count: int) -> Path:
    """nginx's folder with a file for each site."""
    sites = folder / "nginx" / "sites"
    sites.mkdir(parents=True)
    (folder / "nginx" / "nginx.conf").write_text("user www-data;\nhttp { include sites/*; }\n", "utf-8")
    for number in range(count):
        (sites / f"{number:05}").write_text(_SITE.format(number), "utf-8")
    return folder / "nginx"


def many_rules(folder: Path, count: int) -> Path:
    """A table as iptables-save prints it."""
    rules = "".join(
        f"-A INPUT -s 10.{each >> 8 & 255}.{each & 255}.0/24 -p tcp -m tcp --dport {1 + each % 60000} -j ACCEPT\n"
        for each in range(count)
    )
    path = folder / "rules.v4"
    path.write_text(f"*filter\n:INPUT DROP [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n{rules}COMMIT\n", "utf-8")
    return path
