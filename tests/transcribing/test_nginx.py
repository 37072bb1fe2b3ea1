"""nginx's configuration, read: its words as the program itself splits them, and what a site comes to."""

import json

import pytest

from portolan.transcribing.nginx_lines import UnfinishedError, directives
from tests.transcribing.conftest import nginx_of, sites_of

#: What stands in a server, and what the estate has of its site.
READ = {
    "root /srv/a; index home.html;": {"folder": "/srv/a", "index_files": ("home.html",)},
    "return 404;": {"answer": 404},
    "location / { return 403; }": {"answer": 403},
    "autoindex on; client_max_body_size 8m;": {"listing": True, "largest_body": 8 << 20},
    "error_page 404 =200 /index.html;": {"error_pages": {404: "/index.html"}, "error_pages_as": {404: 200}},
    "error_page 500 502 /50x.html;": {"error_pages": {500: "/50x.html", 502: "/50x.html"}},
    "location / { try_files $uri $uri/ /app.html; }": {"fallback": "app.html"},
    "location / { try_files $uri $uri/ =404; }": {"fallback": None},
    "location / { try_files $uri $uri.html $uri/ =404; }": {"tries": ("{path}", "{path}.html", "{path}/"), "fallback": None},
    "location / { try_files $uri.html $uri /app.html; }": {"tries": ("{path}.html", "{path}"), "fallback": "app.html"},
    "server_name ~^(a|b)-(?<hut>\\d+)\\.ridge\\.example$; root /srv/$hut;": {"folder": "/srv/{2}"},
    "root /srv/${host}/x;": {"folder": "/srv/{name}/x"},
    "server_name ~^hut(?<n>\\d+)\\.ridge\\.example$;": {"names": (), "name_patterns": ("(?i)^hut(?P<n>\\d+)\\.ridge\\.example$",)},
    "server_name a.example *.b.example .c.example d.*;": {"names": ("a.example", "*.b.example", ".c.example", "d.*")},
    "listen 8080 default_server; listen [::]:8080 default_server;": {
        "listens": ("0.0.0.0:8080", "[::]:8080"), "default_on": ("0.0.0.0:8080", "[::]:8080"),
    },
    "add_header Cache-Control max-age=60; add_header X-Frame-Options DENY;": {"cache_control": "max-age=60"},
}  # fmt: skip


@pytest.mark.parametrize("text", READ)
def test_what_stands_in_a_server(text):
    """Said as the estate says it, and nothing of it lost."""
    made = nginx_of(f"server {{ {text} }}")
    (site,) = sites_of(made).values()
    assert {key: getattr(site, key) for key in READ[text]} == READ[text]
    assert made.unread == ()


#: A redirect as it is written, and as it is kept: condition, target, status, query.
REDIRECTS = {
    "return 301 https://$host$request_uri;": (None, "https://{host}{path}{query}", 301, "as-written"),
    "return https://a.example/;": (None, "https://a.example/", 302, "as-written"),
    "if ($host = www.a.example) { return 301 https://a.example$request_uri; }": (("host", ("www.a.example",)), "https://a.example{path}{query}", 301, "as-written"),
    "if ($scheme != https) { return 308 https://$host$request_uri; }": (("scheme", "http"), "https://{host}{path}{query}", 308, "as-written"),
    'if ($http_x_forwarded_proto = "http") { return 301 https://$host$request_uri; }': (("header", {"x-forwarded-proto": "http"}), "https://{host}{path}{query}", 301, "as-written"),
    'if ($args ~* "id=7") { return 302 https://a.example/seven; }': (("query", "(?i)id=7"), "https://a.example/seven", 302, "as-written"),
    "if ($arg_id = 7) { return 302 https://a.example/seven; }": (("query", "(?i:(^|&)id=)7(&|$)"), "https://a.example/seven", 302, "as-written"),
    'if ($args !~ "id=") { return 302 https://a.example/none; }': (("not_query", "id="), "https://a.example/none", 302, "as-written"),
    "rewrite ^/rooms/([0-9]+)$ /room.html?n=$1 permanent;": (("pattern", "^/rooms/([0-9]+)$"), "/room.html?n={1}", 301, "joined"),
    "rewrite ^/old$ https://a.example/new? redirect;": (("pattern", "^/old$"), "https://a.example/new", 302, "as-written"),
}  # fmt: skip


@pytest.mark.parametrize("text", REDIRECTS)
def test_what_sends_visitors_elsewhere(text):
    """Returns, rewrites that leave, and the conditions that people write."""
    made = nginx_of(f"server {{ {text} }}")
    (site,) = sites_of(made).values()
    (rule,) = site.redirects
    when, to, status, query = REDIRECTS[text]
    assert (rule.to, rule.status, rule.query) == (to, status, query)
    assert (rule.when is None) if when is None else getattr(rule.when, when[0]) == when[1]
    assert made.unread == ()


def test_a_front_says_what_it_sends():
    """The pool that is named, the name, the scheme; who the visitor is decides nothing here."""
    made = nginx_of(
        "upstream desk { server 10.20.0.16:8080; server 10.20.0.17:8080 down; }\n"
        "server { location / { proxy_pass http://desk; proxy_set_header Host $host; proxy_set_header X-Forwarded-Proto $scheme;"
        " proxy_set_header X-Real-IP $remote_addr; proxy_read_timeout 30s; proxy_redirect off; } }"
    )
    (site,) = sites_of(made).values()
    front = site.upstream
    assert [str(each) for each in front.to] == ["http://10.20.0.16:8080"]
    assert (front.host, front.headers, front.answer_within, front.turns_redirects) == (
        "kept",
        {"x-forwarded-proto": "{scheme}", "x-real-ip": "{client}"},
        30,
        False,
    )
    assert made.unread == ()


def test_places_within_a_site():
    """Each of its kind, in the program's order, with what is otherwise there."""
    made = nginx_of(
        "server { root /srv/a; location = /status { return 200 ok; } location ^~ /img/ { alias /srv/img/; }"
        " location ~* \\.php$ { deny all; } location /app { root /srv/b; allow 10.0.0.0/8; deny all; } }"
    )
    (site,) = sites_of(made).values()
    one, two, three, four = site.sections
    assert (one.exact, one.answer) == ("/status", 200)
    assert (two.path, two.first, two.folder) == ("/img/", True, "/srv/img")
    assert (three.pattern, three.access.nobody) == ("(?i)\\.php$", True)
    assert (four.folder, [str(each) for each in four.access.sources]) == ("/srv/b/app", ["10.0.0.0/8"])


#: What the estate has no word for; the line is told, and nothing is made of it.
LOST = ("location / { uwsgi_pass unix:/run/app.sock; }", "location / { proxy_pass http://$backend; }", "rewrite ^/(?!a)b$ /b last;", "if (-x $request_filename) { return 403; }",
        "ssl_verify_client optional_no_ca;", "location / { try_files $uri @app; }", "auth_request /auth;", "limit_req zone=one;", "root /srv/$arg_x;", "location /a { root /srv/$host; }", "server_name ~(?!www)x;", "return 301 https://$unknown/;")  # fmt: skip


@pytest.mark.parametrize("text", LOST)
def test_losses_are_loud(text):
    """Each with its file and line."""
    made = nginx_of(f"server {{\n  root /srv/a;\n  {text}\n}}")
    assert [str(spot) for spot, _ in made.unread] == ["etc/nginx/nginx.conf:4"]
    sites_of(made)


#: Limits of requests, and what is read of a server that names one; None: a line that is lost.
RATES = {
    ("$binary_remote_addr zone=one:1m rate=10r/s", "limit_req zone=one burst=5 nodelay;"): (10, "second", 5, 503),
    ("$remote_addr zone=one:1m rate=30r/m", "limit_req_status 429; location / { limit_req zone=one; }"): (
        30,
        "minute",
        0,
        429,
    ),
    ("$server_name zone=one:1m rate=10r/s", "limit_req zone=one;"): None,
    ("$binary_remote_addr zone=two:1m rate=10r/s", "limit_req zone=one;"): None,
}


@pytest.mark.parametrize("zone", RATES)
def test_how_often_one_address_may_ask(zone):
    """By the zone's name; what counts something else than addresses is told as a line unread."""
    stated, text = zone
    made = nginx_of(f"limit_req_zone {stated};\nserver {{\n  root /srv/a;\n  {text}\n}}")
    (site,) = sites_of(made).values()
    rate = site.rate or next((each.rate for each in site.sections), None)
    if RATES[zone] is None:
        assert rate is None
        assert [str(spot) for spot, _ in made.unread] == ["etc/nginx/nginx.conf:5"]
    else:
        assert rate is not None
        assert (rate.requests, rate.each, rate.at_once, rate.refuses_with) == RATES[zone]
        assert made.unread == ()


def test_includes_and_what_nothing_includes():
    """Wildcards in order, links by what they hold; a file beside that nobody takes in is a site that is not there."""
    made = nginx_of(
        "include sites-enabled/*;",
        **{
            "/etc/nginx/sites-enabled/a": "server { server_name a.example; }",
            "/etc/nginx/sites-available/a": "server { server_name a.example; }",
            "/etc/nginx/sites-available/b": "server { server_name b.example; }",
        },
    )
    sites = sites_of(made)
    assert {name: site.included for name, site in sites.items()} == {"a.example": True, "b.example": False}
    assert sites["a.example"].place.span.short == "etc/nginx/sites-enabled/a:1"


def test_where_it_stands_is_cited():
    """Of each key its own line, in its own file."""
    made = nginx_of("server {\n  listen 80;\n  server_name a.example;\n  root /srv/a;\n}")
    site = sites_of(made)["a.example"]
    assert site.place.span.short == "etc/nginx/nginx.conf:2"
    assert site.place.key("folder").span.short == "etc/nginx/nginx.conf:5"


def test_no_secret_goes_along():
    """Passwords and keys in a configuration are told of by the directive's name alone."""
    made = nginx_of(
        'server { proxy_set_header Authorization "Basic c2VjcmV0"; set $token s3cr3t; secure_link_secret s3cr3t; location / { proxy_pass http://127.0.0.1:1; proxy_set_header X-Api-Key s3cr3t; } }'
    )
    text = json.dumps([made.documents, [words for _, words in made.unread]])
    assert made.unread
    assert "c2VjcmV0" not in text
    assert "s3cr3t" not in text


BROKEN = {
    "server {": "a }",
    "server } ": "a ;",
    'root "/srv': "a quote",
    "server { } }": "too many",
    "; a b;": "nothing before",
    "a {" * 100: "deep",
}


@pytest.mark.parametrize("text", BROKEN)
def test_what_the_program_would_not_load(text):
    """One error with its line."""
    with pytest.raises(UnfinishedError, match=BROKEN[text]):
        directives(text, "f")


def _flat(held):
    return [
        (each.name, list(each.words), each.spot.line, None if each.block is None else _flat(each.block))
        for each in held
    ]


def _oracle(held):
    return [
        (each["directive"], each["args"], each["line"], _oracle(each["block"]) if "block" in each else None)
        for each in held
        if each["directive"] != "#"
    ]


TEXTS = (
    "user www-data;\nhttp {\n  server { listen 80; server_name a b \"c d\"; } # end\n}\n",
    "events {} http { map $a $b { default 0; ~^x 1; } server { location ~ \\.(php|html)$ { return 200 'a;b'; } } }",
    "http { log_format main '$remote_addr - \"$request\" '\n   '$status';\n  server { add_header A \"b\\\"c\"; rewrite ^/(.*)$ https://$host/$1 permanent; } }",
    "worker_processes auto;\n\n\n# x\nhttp{server{listen [::]:80;root /a\\ b;}}",
)  # fmt: skip


@pytest.mark.parametrize("text", TEXTS)
def test_words_as_another_reader_has_them(tmp_path, text):
    """Names, words, lines and blocks, beside a library for the same files."""
    crossplane = pytest.importorskip("crossplane")
    path = tmp_path / "nginx.conf"
    path.write_text(text)
    other = crossplane.parse(str(path), check_ctx=False, check_args=False, single=True)["config"][0]["parsed"]
    assert _flat(directives(text, "f")) == _oracle(other)


def test_rules_within_the_server():
    """Where a request goes on, by the flag; what lies there, methods and fields as conditions; what answers."""
    made = nginx_of(
        "server { root /srv/a; rewrite ^/old/(.*)$ /new/$1 last; rewrite ^/q/(.*)$ /n.php?x=$1? break; rewrite ^/a$ /b;"
        " if (!-e $request_filename) { rewrite ^(.*)$ /index.php?p=$1 last; } if (-f /srv/on) { return 503; }"
        " if ($request_method !~ ^(GET|HEAD)$) { return 405; } if ($http_user_agent ~* (bot|spider)) { return 403; } }"
    )
    (site,) = sites_of(made).values()
    rules = site.redirects
    assert [(each.to, each.inner, each.query, each.answer) for each in rules] == [
        ("/new/{1}", "again", "joined", None),
        ("/n.php?x={1}", "here", "as-written", None),
        ("/b", "on", "joined", None),
        ("/index.php?p={1}", "again", "joined", None),
        ("", None, "as-written", 503),
        ("", None, "as-written", 405),
        ("", None, "as-written", 403),
    ]
    assert (rules[3].when.file, rules[3].when.folder, rules[3].when.pattern) == (False, False, "^(.*)$")
    assert (rules[4].when.while_file, rules[5].when.not_method) == ("/srv/on", ("GET", "HEAD"))
    assert rules[6].when.fits_header == {"user-agent": "(?i)(bot|spider)"}
    assert not made.unread


def test_scripts_and_programs_behind_files():
    """Who runs scripts, at a socket, an address or a pool's member; files first, then a program behind a place with a name."""
    made = nginx_of(
        "upstream php { server 127.0.0.1:9000; }\nserver { root /srv/a; index index.php;"
        " location / { try_files $uri $uri/ /index.php?$args; } location ~ \\.php$ { fastcgi_pass unix:/run/php.sock; }"
        " location ~ \\.phtml$ { fastcgi_pass php; } location ~ /\\.(?!well-known) { deny all; } }"
        "\nserver { server_name b.example; root /srv/b; location / { try_files $uri @app; }"
        " location @app { proxy_set_header Host $host; proxy_pass http://127.0.0.1:3000; } }"
    )
    first, second = sites_of(made).values()
    assert [each.scripts_at for each in first.sections] == [None, "/run/php.sock", "127.0.0.1:9000", None, None]
    assert [each.pattern for each in first.sections[3:]] == ["/\\.well-known", "/\\."]
    assert first.sections[0].fallback == "index.php"
    assert (second.tries, str(second.upstream.to[0]), second.upstream.host) == (
        ("{path}",),
        "http://127.0.0.1:3000",
        "kept",
    )
    assert not made.unread


def test_who_the_visitor_is():
    """What is said of the visitor to programs behind, and whose word on it is believed."""
    made = nginx_of(
        "set_real_ip_from 10.0.0.0/8; set_real_ip_from 192.0.2.7; real_ip_header X-Forwarded-For; real_ip_recursive on;"
        "\nserver { location / { proxy_pass http://127.0.0.1:3000; proxy_set_header X-Real-IP $remote_addr;"
        " proxy_set_header X-Forwarded-For $proxy_add_x_forwarded_for; } }"
    )
    (site,) = sites_of(made).values()
    held = site.believes_address
    assert (held.header, [str(each) for each in held.sources], held.passes_over) == (
        "x-forwarded-for",
        ["10.0.0.0/8", "192.0.2.7/32"],
        True,
    )
    assert (site.upstream.headers, site.upstream.appends) == (
        {"x-real-ip": "{client}"},
        {"x-forwarded-for": "{client}"},
    )
    assert not made.unread
