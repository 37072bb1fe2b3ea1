"""Apache httpd's configuration, read: conditions, macros and includes as the program itself has them, and what a site comes to."""

import pytest

from portolan.transcribing.apache_lines import Reading
from portolan.transcribing.sources import Held, SourceError
from tests.transcribing.conftest import apache_of, estate_of, sites_of

HEAD = "Listen 80\n"
READ = {
    "DocumentRoot /srv/a\nDirectoryIndex home.html": {"folder": "/srv/a", "index_files": ("home.html",)},
    "ServerName a.example\nServerAlias b.example *.c.example": {"names": ("a.example", "b.example", "*.c.example")},
    "DocumentRoot /srv/a\nFallbackResource /app.html": {"fallback": "app.html"},
    "DocumentRoot /srv/a\nErrorDocument 404 /404.html\nErrorDocument 403 \"no\"": {"error_pages": {404: "/404.html"}},
    "DocumentRoot /srv/a\n<Directory /srv/a>\nOptions Indexes\nAllowOverride All\n</Directory>": {"listing": True, "reads_rule_files": True},
    "ServerName a.example\nServerAlias hut*.a.example *": {"names": ("a.example", "hut*.a.example", "*")},
    "VirtualDocumentRoot /srv/%0/%1/%-2+/%%": {"folder": "/srv/{name}/{label:1}/{label:-2+}/%"},
    "DocumentRoot /srv/a\nLimitRequestBody 1000\nHeader always set Strict-Transport-Security max-age=60": {"largest_body": 1000},
}  # fmt: skip


@pytest.mark.parametrize("text", READ)
def test_what_stands_in_a_virtual_host(text):
    """Said as the estate says it, and nothing of it lost."""
    made = apache_of(f"{HEAD}<VirtualHost *:80>\n{text}\n</VirtualHost>\n")
    (site,) = sites_of(made).values()
    assert {key: getattr(site, key) for key in READ[text]} == READ[text]
    assert made.unread == ()


REDIRECTS = {
    "Redirect permanent / https://a.example/": [({"path": "/*"}, "https://a.example/{rest}", 301)],
    "Redirect /old https://a.example/new": [({"path": "/old/*"}, "https://a.example/new/{rest}", 302), ({"path": "/old"}, "https://a.example/new", 302)],
    "RedirectMatch 307 ^/r/([0-9]+)$ /room?n=$1": [({"pattern": "^/r/([0-9]+)$"}, "/room?n={1}", 307)],
    "RewriteEngine on\nRewriteCond %{HTTPS} off\nRewriteRule ^ https://%{HTTP_HOST}%{REQUEST_URI} [R=301,L]": [({"scheme": "http"}, "https://{host}{path}", 301)],
    "RewriteEngine on\nRewriteCond %{QUERY_STRING} ^id=7$\nRewriteRule ^ https://a.example/seven [R=301,L]": [({"query": "^id=7$"}, "https://a.example/seven", 301)],
    "RewriteEngine on\nRewriteCond %{QUERY_STRING} !id=\nRewriteRule ^ https://a.example/none [R=301,L]": [({"not_query": "id="}, "https://a.example/none", 301)],
    "RewriteEngine on\nRewriteCond %{HTTP_HOST} ^www\\.a\\.example$ [NC]\nRewriteRule ^/(.*)$ https://a.example/$1 [R=301,L]": [({"host": ("www.a.example",)}, "https://a.example{path}", 301)],
}  # fmt: skip


@pytest.mark.parametrize("text", REDIRECTS)
def test_what_sends_visitors_elsewhere(text):
    """Redirects and rewrite rules, with the conditions that people write."""
    made = apache_of(f"{HEAD}<VirtualHost *:80>\n{text}\n</VirtualHost>\n")
    (site,) = sites_of(made).values()
    assert [
        ({key: getattr(rule.when, key) for key in when}, rule.to, rule.status)
        for rule, (when, _, _) in zip(site.redirects, REDIRECTS[text], strict=True)
    ] == REDIRECTS[text]
    assert made.unread == ()


#: A folder's rules, and what is asked of paths: patterns lie behind the folder, groups that are not there are empty.
FOLDERS = {
    "RewriteCond %{REQUEST_FILENAME} !-f\nRewriteCond %{REQUEST_FILENAME} !-d\nRewriteRule . /index.php [L]": [
        ({"file": False, "folder": False}, "/index.php")
    ],
    "RewriteRule ^old/(.*)$ /new/$1 [R=301,L]": [({"pattern": "^/docs/old/(.*)$"}, "/new/{1}")],
    "RewriteRule ^(?:a|^b)$ /c$1 [R=301,L]": [({"pattern": "^/docs/(?:a|^/docs/b)$"}, "/c")],
    "RewriteRule x|y$ /z [R=301,L]": [({"pattern": "^/docs/.*?(?:x|y$)"}, "/z")],
    "RewriteRule !^[^^]/ /z [R=301,L]": [({"none": ({"pattern": "^/docs/[^^]/"},)}, "/z")],
    "RewriteRule !k /z$1 [R=301,L]": [({"none": ({"pattern": "^/docs/.*?(?:k)"},)}, "/z")],
    "RewriteCond %{HTTPS} off [OR]\nRewriteCond %{QUERY_STRING} ^p$\nRewriteRule ^k$ /z [R=301,L]": [
        ({"pattern": "^/docs/k$", "any": ({"scheme": "http"}, {"query": "^p$"})}, "/z")
    ],
    "RewriteCond %{HTTPS} off [OR]\nRewriteRule ^k$ /z [R=301,L]": [({"pattern": "^/docs/k$", "scheme": None}, "/z")],
}


@pytest.mark.parametrize("text", FOLDERS)
def test_rules_of_a_folder(text):
    """Patterns, also negated ones, conditions of which one is enough, groups that a pattern has not (measured)."""
    made = apache_of(
        f"{HEAD}<VirtualHost *:80>\nDocumentRoot /srv/a\n<Directory /srv/a/docs>\nRewriteEngine on\n{text}\n</Directory>\n</VirtualHost>\n"
    )
    (site,) = sites_of(made).values()
    found = [rule for each in (site, *site.sections) for rule in each.redirects]
    assert [(_said(rule.when, when), rule.to) for rule, (when, _) in zip(found, FOLDERS[text], strict=True)] == FOLDERS[
        text
    ]
    assert made.unread == ()


def _said(when, keys):
    """What a condition says under keys, groups as plain mappings."""
    held = {key: getattr(when, key) for key in keys}
    return {
        key: tuple({name: getattr(each, name) for name in like} for each, like in zip(value, keys[key], strict=True))
        if isinstance(value, tuple)
        else value
        for key, value in held.items()
    }


PARENT = "<Directory /srv/a>\nRewriteEngine on\nRewriteRule ^k$ /above [R=301,L]\n</Directory>\n"
LATER = "<Directory /srv/a>\nRewriteEngine on\nRewriteRule ^k$ /later [R=301,L]\n</Directory>\n"


@pytest.mark.parametrize(
    ("more", "leads", "unread"),
    [("", ["/above"], 0), (LATER, ["/later"], 0), ("Redirect /x /y\n", ["/y"], 1), ("Alias /m /srv/m\n", [], 1)],
)
def test_which_folders_rules_are_asked(more, leads, unread):
    """The latest only; and none where the server has redirects or other folders, as they are asked at another time."""
    made = apache_of(f"{HEAD}<VirtualHost *:80>\nDocumentRoot /srv/a\n{PARENT}{more}</VirtualHost>\n")
    (site,) = sites_of(made).values()
    assert [rule.to for rule in site.redirects if rule.when.path != "/x/*"] == leads
    assert len([each for each in made.unread if "RewriteRule" in str(each)]) == unread


ACCESS = {
    "Require all denied": {"nobody": True}, "Require ip 10.20 192.0.2.7": {"from": ["10.20.0.0/16", "192.0.2.7"]}, "Require valid-user": {"password": True},
    "<RequireAny>\nRequire ip 10.0.0.0/8\nRequire valid-user\n</RequireAny>": {"from": ["10.0.0.0/8"], "password": True, "either": True},
    "<RequireAll>\nRequire all granted\nRequire not ip 192.0.2.0/24\n</RequireAll>": {"not_from": ["192.0.2.0/24"]},
    "Order deny,allow\nDeny from all\nAllow from 10.20.0.0/16": {"from": ["10.20.0.0/16"]}, "Order allow,deny\nAllow from all\nDeny from 192.0.2.9": {"not_from": ["192.0.2.9"]},
}  # fmt: skip


@pytest.mark.parametrize("text", ACCESS)
def test_who_is_let_in(text):
    """In groups of alternatives and of all, in the newer words and the older."""
    made = apache_of(
        f"{HEAD}<VirtualHost *:80>\nDocumentRoot /srv/a\n<Location /in>\n{text}\n</Location>\n</VirtualHost>\n"
    )
    section = made.documents["server.yaml"]["hosts"]["server"]["services"]["apache"]["sites"]["apache2"]["sections"][0]
    assert {key: value for key, value in section["access"].items() if key != "read_from"} == ACCESS[text]
    assert made.unread == ()


def test_conditions_definitions_and_macros():
    """What is not defined or loaded says nothing; a macro is its text with the words in it."""
    made = apache_of(
        "Define root /srv\nLoadModule dir_module modules/mod_dir.so\nListen 80\n<IfModule mod_dir.c>\nDirectoryIndex home.html\n</IfModule>\n"
        "<IfModule !mod_ssl.c>\nListen 8080\n</IfModule>\n<IfDefine NOTHING>\nListen 9090\n<IfModule x>\n</IfModule>\n</IfDefine>\n"
        "<Macro Host $name>\n<VirtualHost *:80>\nServerName $name.example\nDocumentRoot ${root}/$name\n</VirtualHost>\n</Macro>\nUse Host a\nUse Host b\n"
    )
    service = estate_of(made).hosts["server"].services["apache"]
    assert [each.text for each in service.listens] == ["80", "8080"]
    assert {name: str(site.folder) for name, site in service.sites.items() if site.names} == {
        "a.example": "/srv/a",
        "b.example": "/srv/b",
    }
    assert service.sites["a.example"].index_files == ("home.html",)


def test_what_is_behind_and_what_lies_elsewhere():
    """What is passed on comes in the order written; a path that is let out has the site's own folder."""
    made = apache_of(
        f"{HEAD}<VirtualHost *:80>\nDocumentRoot /srv/a\nProxyPreserveHost On\nRequestHeader set X-Forwarded-Proto https\nProxyPass /static !\n"
        "ProxyPass / http://127.0.0.1:3000/\nProxyPassReverse / http://127.0.0.1:3000/\nAlias /img /srv/img\n</VirtualHost>\n"
    )
    (site,) = sites_of(made).values()
    first, second, third = site.sections
    assert (first.path, first.not_passed_on, first.folder) == ("/static", True, None)
    assert (second.path, second.upstream.host, second.upstream.turns_redirects, second.upstream.headers) == (
        "/",
        "kept",
        True,
        {"x-forwarded-proto": "https"},
    )
    assert (third.path, str(third.folder)) == ("/img", "/srv/img")


def test_rule_files_within_the_folder():
    """They are read where they were given, in the words of the folder that they lie in."""
    made = apache_of(
        f"{HEAD}<VirtualHost *:80>\nDocumentRoot /srv/a\n<Directory /srv/a>\nAllowOverride All\n</Directory>\n</VirtualHost>\n",
        **{
            "/srv/a/.htaccess": "RewriteEngine On\nRewriteRule ^old$ /new [R=301,L]\n",
            "/srv/a/in/.htaccess": "Require all denied\nRewriteEngne On\n",
        },
    )
    (site,) = sites_of(made).values()
    top, inner = site.rule_files
    assert [(rule.when.pattern, rule.to) for rule in top.redirects] == [("^/old$", "/new")]
    assert (inner.within, inner.access.nobody) == ("in", True)
    assert [words for _, words in made.unread] == ["rewriteengne On"]


BROKEN = {
    "<VirtualHost *:80>\n": "not closed",
    "</Directory>\n": "closes nothing",
    "Use Nothing\n": "no macro",
    "Include /etc/apache2/apache2.conf\n": "includes itself",
}


@pytest.mark.parametrize("text", BROKEN)
def test_what_the_program_would_not_load(text):
    """One error with its line."""
    with pytest.raises(SourceError, match=BROKEN[text]):
        apache_of(text)


def test_a_line_that_goes_on():
    """A backslash at its end joins the next; the line is where it begins."""
    made = apache_of(f"{HEAD}<VirtualHost *:80>\nServerName \\\n  a.example\n</VirtualHost>\n")
    (site,) = sites_of(made).values()
    assert site.place.key("names").span.short == "etc/apache2/apache2.conf:3"


ORACLE = (
    'ServerName a.example\n<VirtualHost *:80>\n  DocumentRoot "/srv/a b"\n  <Location /x>\n    Require all denied\n  </Location>\n  Redirect / https://x/\n</VirtualHost>\n',
    "# words\nListen 80\n<Directory /srv>\n    Options -Indexes +FollowSymLinks\n    AllowOverride None\n</Directory>\nTimeout 60\n",
    "RewriteEngine On\nRewriteRule ^/(.*)$ https://a.example/$1 [R=301,L]\n<IfModule mod_ssl.c>\nSSLEngine on\n</IfModule>\n",
)


def _pairs(held):
    """Names and words, blocks by their name and what stands beside it."""
    return [(each.name, " ".join(each.words), None if each.block is None else _pairs(each.block)) for each in held]


def _theirs(held):
    found = []
    for name, value in held.items():
        if isinstance(value, dict):
            found += [(name.lower(), words, _theirs(inner)) for words, inner in value.items()]
        else:
            found += [
                (name.lower(), each.replace('"', ""), None) for each in (value if isinstance(value, list) else [value])
            ]
    return found


@pytest.mark.parametrize("text", ORACLE)
def test_lines_as_another_reader_has_them(text):
    """Names, words and blocks, beside a library for the same files; it takes every condition for a block."""
    apacheconfig = pytest.importorskip("apacheconfig")
    with apacheconfig.make_loader() as loader:
        theirs = _theirs(loader.loads(text))
    reading = Reading(Held({"/f": text.encode()}), "/", {})
    reading.modules.add("mod_ssl.c")
    mine = _pairs(reading.file("/f"))
    within = [(name, words, inner) for name, words, inner in theirs if name != "ifmodule"]
    within += [each for name, _, inner in theirs if name == "ifmodule" for each in inner]
    assert sorted(map(str, mine)) == sorted(map(str, within))


def test_what_only_the_environment_decides_is_told():
    """A name that no file defines, and a variable of the program's start."""
    made = apache_of(
        f"{HEAD}<IfDefine PROXIED>\nListen 81\n</IfDefine>\n<VirtualHost *:80>\nDocumentRoot ${{WEBROOT}}/a\nDirectoryIndex ${{FIRST}}\n</VirtualHost>\n"
    )
    assert [words.partition(" ")[0] for _, words in made.unread] == ["<IfDefine", "documentroot", "directoryindex"]


def test_rules_of_every_kind():
    """What goes on within the server, answers or ends the rules; conditions in groups, negated, on files and fields."""
    made = apache_of(
        f"{HEAD}<VirtualHost *:80>\nDocumentRoot /srv/a\nRewriteEngine on\nRewriteCond /srv/on -f\nRewriteCond %{{REQUEST_URI}} !=/sorry.html\n"
        "RewriteRule ^ - [R=503,L]\nRewriteCond %{HTTP_USER_AGENT} (bot|spider) [NC]\nRewriteRule ^ - [F]\n"
        "RewriteCond %{REQUEST_METHOD} !^(GET|POST)$\nRewriteRule ^/app/ - [G]\nRewriteCond %{HTTPS} off [OR]\nRewriteCond %{HTTP_HOST} ^www\\.a\\.example$\n"
        "RewriteRule ^ https://a.example%{REQUEST_URI} [R=301,L]\nRewriteCond %{DOCUMENT_ROOT}%{REQUEST_URI}.html -f\nRewriteRule ^(.+)$ $1.html [L]\n"
        "RewriteRule ^/keep$ - [END]\nRewriteRule ^/old/(.*)$ /new.html?x=$1\n</VirtualHost>\n"
    )
    (site,) = sites_of(made).values()
    rules = site.redirects
    assert [(each.answer, each.to, each.inner, each.query) for each in rules] == [
        (503, "", None, "as-written"),
        (403, "", None, "as-written"),
        (410, "", None, "as-written"),
        (None, "https://a.example{path}", None, "unless-own"),
        (None, "{1}.html", "again", "unless-own"),
        (None, "{path}", "here", "unless-own"),
        (None, "/new.html?x={1}", "on", "unless-own"),
    ]
    assert (rules[0].when.while_file, rules[0].when.none[0].path) == ("/srv/on", "/sorry.html")
    assert rules[1].when.fits_header == {"user-agent": "(?i)(bot|spider)"}
    assert (rules[2].when.not_method, rules[2].when.pattern) == (("GET", "POST"), "^/app/")
    assert [(each.scheme, each.host) for each in rules[3].when.any] == [("http", ()), (None, ("www.a.example",))]
    assert (rules[4].when.file_at, rules[4].when.pattern) == ("{path}.html", "^(.+)$")
    assert not made.unread


def test_who_runs_scripts_and_what_is_left_out():
    """A handler at a socket, a pattern that is passed on, folders by pattern, a look ahead as a condition of its own."""
    made = apache_of(
        f'{HEAD}<VirtualHost *:80>\nDocumentRoot /srv/a\n<FilesMatch "\\.php$">\nSetHandler "proxy:unix:/run/p.sock|fcgi://localhost"\n</FilesMatch>\n'
        'ProxyPassMatch ^/s/.*\\.php$ fcgi://127.0.0.1:9000/srv/a/s\n<DirectoryMatch "/\\.git">\nRequire all denied\n</DirectoryMatch>\n'
        "RedirectMatch permanent ^/(?!\\.well-known/).* https://a.example/\n</VirtualHost>\n"
    )
    (site,) = sites_of(made).values()
    assert {str(each.scripts_at) for each in site.sections} == {"127.0.0.1:9000", "/run/p.sock", "None"}
    assert "/\\.git[^/]*/" in [each.pattern for each in site.sections]
    (rule,) = site.redirects
    assert (rule.when.pattern, [each.pattern for each in rule.when.none]) == ("^/.*", ["^/\\.well-known/"])
    assert not made.unread


def test_whose_word_on_the_visitor_is_believed():
    """The field and the ranges."""
    made = apache_of(
        f"{HEAD}<VirtualHost *:80>\nDocumentRoot /srv/a\nRemoteIPHeader X-Forwarded-For\nRemoteIPInternalProxy 10.0.0.0/8\nRemoteIPTrustedProxy 192.0.2.7\n</VirtualHost>\n"
    )
    (site,) = sites_of(made).values()
    assert site.believes_address.header == "x-forwarded-for"
    assert [str(each) for each in site.believes_address.sources] == ["10.0.0.0/8", "192.0.2.7/32"]


@pytest.mark.parametrize(
    "line", ["RemoteIPInternalProxy front.example", "RemoteIPProxyProtocol On", "RemoteIPTrustedProxyList proxies.txt"]
)
def test_whose_word_is_not_known(line):
    """Names, files of addresses and another protocol have no word in the estate: they are told."""
    made = apache_of(
        f"{HEAD}<VirtualHost *:80>\nDocumentRoot /srv/a\nRemoteIPHeader X-Forwarded-For\n{line}\n</VirtualHost>\n"
    )
    assert line.split()[0].lower() in str(made.unread)


SOCKETS = "ProxyPass /live/ http://127.0.0.1:4000/\n"
WHO_ASKS = "RewriteEngine on\nRewriteCond %{HTTP:Upgrade} =websocket [NC]\n"


@pytest.mark.parametrize(
    ("text", "upgrades", "unread"),
    [
        (SOCKETS, False, 0),
        (SOCKETS.replace("4000/", "4000/ upgrade=websocket"), True, 0),
        (f"{WHO_ASKS}RewriteRule /live/(.*) ws://127.0.0.1:4000/$1 [P,L]\n{SOCKETS}", True, 0),
        (f"{WHO_ASKS}RewriteRule /live/(.*) ws://127.0.0.1:4001/$1 [P,L]\n{SOCKETS}", False, 1),
        (f"RewriteEngine on\nRewriteRule /live/(.*) ws://127.0.0.1:4000/$1 [P,L]\n{SOCKETS}", True, 1),
    ],
)
def test_what_is_passed_on_for_websockets(text, upgrades, unread):
    """By the word of the program, or by a rule beside what is passed on for pages."""
    made = apache_of(f"{HEAD}<VirtualHost *:80>\nDocumentRoot /srv/a\n{text}</VirtualHost>\n")
    (site,) = sites_of(made).values()
    assert [each.upstream.upgrades for each in site.sections if each.upstream] == [upgrades]
    assert len(made.unread) == unread


def test_other_methods_are_refused():
    """With 403, after what the server sends elsewhere; HEAD goes with GET."""
    inside = "<LimitExcept GET POST>\nRequire all denied\n</LimitExcept>"
    made = apache_of(
        f"{HEAD}<VirtualHost *:80>\nDocumentRoot /srv/a\n<Directory /srv/a>\n{inside}\n</Directory>\nRedirect gone /old\n</VirtualHost>\n"
    )
    (site,) = sites_of(made).values()
    assert [(rule.answer, rule.when.not_method) for rule in site.redirects][-1] == (403, ("GET", "POST", "HEAD"))
    assert made.unread == ()


@pytest.mark.parametrize("path", ["well-known", "\u00acl-known"])
def test_an_alias_that_no_path_begins_with(path):
    """mod_alias compares what was asked for, which begins with a slash: such a line is told, and the estate still loads."""
    made = apache_of(f"{HEAD}<VirtualHost *:80>\nDocumentRoot /srv/a\nAlias {path} /srv/b\n</VirtualHost>\n")
    assert [words.partition(" ")[0].lower() for _, words in made.unread] == ["alias"]
    (site,) = sites_of(made).values()
    assert not site.sections
