"""References as browsers resolve them, after the URL standard's text (section 4.4) and Chromium's own `new URL`; credentials go unsaid."""

import pytest

from portolan.estate.url import BadUrlError, join, parse

PLAIN, SECURE = "http://kestrel.example/a/b/c.html?x=1#f", "https://kestrel.example:8443/a/"
#: A reference, and what it comes to against the plain base; None: no address.
ROWS = [
    ('', 'http://kestrel.example/a/b/c.html?x=1'), ('#', 'http://kestrel.example/a/b/c.html?x=1'),
    ('#g', 'http://kestrel.example/a/b/c.html?x=1'), ('?', 'http://kestrel.example/a/b/c.html'), ('?y', 'http://kestrel.example/a/b/c.html?y'),
    ('?y=2#g', 'http://kestrel.example/a/b/c.html?y=2'), ('d', 'http://kestrel.example/a/b/d'), ('./d', 'http://kestrel.example/a/b/d'),
    ('../d', 'http://kestrel.example/a/d'), ('../../d', 'http://kestrel.example/d'), ('../../../d', 'http://kestrel.example/d'),
    ('..', 'http://kestrel.example/a/'), ('.', 'http://kestrel.example/a/b/'), ('./', 'http://kestrel.example/a/b/'),
    ('../', 'http://kestrel.example/a/'), ('/', 'http://kestrel.example/'), ('/d', 'http://kestrel.example/d'),
    ('//other.example', 'http://other.example/'), ('//other.example/d', 'http://other.example/d'),
    ('///other.example/d', 'http://other.example/d'), ('////other.example/d', 'http://other.example/d'),
    ('/\\other.example/d', 'http://other.example/d'), ('\\\\other.example/d', 'http://other.example/d'), ('\\d', 'http://kestrel.example/d'),
    ('d\\e', 'http://kestrel.example/a/b/d/e'), ('http:d', 'http://kestrel.example/a/b/d'), ('http:/d', 'http://kestrel.example/d'),
    ('http://d', 'http://d/'), ('http:///d', 'http://d/'), ('https:d', 'https://d/'), ('https:/d', 'https://d/'), ('https://d', 'https://d/'),
    ('HTTP:d', 'http://kestrel.example/a/b/d'), ('HtTpS://D.Example/', 'https://d.example/'), ('  d  ', 'http://kestrel.example/a/b/d'),
    ('d e', 'http://kestrel.example/a/b/d%20e'), ('d%20e', 'http://kestrel.example/a/b/d%20e'), ('d%zz', 'http://kestrel.example/a/b/d%zz'),
    ('%2e%2e/d', 'http://kestrel.example/a/d'), ('%2e/d', 'http://kestrel.example/a/b/d'), ('.%2e/d', 'http://kestrel.example/a/d'),
    ('/a/./b/../c', 'http://kestrel.example/a/c'), ('/a/..', 'http://kestrel.example/'), ('/a/../../..', 'http://kestrel.example/'),
    ('a;b', 'http://kestrel.example/a/b/a;b'), ('a:b', None), ('./a:b', 'http://kestrel.example/a/b/a:b'),
    ('?a?b', 'http://kestrel.example/a/b/c.html?a?b'), ('?a b', 'http://kestrel.example/a/b/c.html?a%20b'),
    ('?a"b<c>', 'http://kestrel.example/a/b/c.html?a%22b%3Cc%3E'), ('#a b', 'http://kestrel.example/a/b/c.html?x=1'),
    ('é', 'http://kestrel.example/a/b/%C3%A9'), ('/é?é', 'http://kestrel.example/%C3%A9?%C3%A9'), ('//é.example/', 'http://xn--9ca.example/'),
    ('//xn--nxa.example/', 'http://xn--nxa.example/'), ('//OTHER.Example', 'http://other.example/'),
    ('//other.example.', 'http://other.example./'), ('//other.example:80/', 'http://other.example/'),
    ('//other.example:443/', 'http://other.example:443/'), ('//other.example:/', 'http://other.example/'),
    ('//other.example:65535/', 'http://other.example:65535/'), ('//other.example:65536/', None), ('//other.example:x/', None),
    ('//user:pw@other.example/', 'http://other.example/'), ('//user@/', None), ('//@other.example/', 'http://other.example/'),
    ('//1.2.3.4/', 'http://1.2.3.4/'), ('//0x7f.1/', 'http://127.0.0.1/'), ('//017700000001/', 'http://127.0.0.1/'),
    ('//1.2.3/', 'http://1.2.0.3/'), ('//256.1.1.1/', None), ('//1.2.3.4.5/', None), ('//1.2.3.08/', None),
    ('//[2001:db8::1]/', 'http://[2001:db8::1]/'), ('//[2001:DB8:0:0::1]:8080/', 'http://[2001:db8::1]:8080/'), ('//[::1', None),
    ('//[::1]x/', None), ('//%6fther.example/', 'http://other.example/'), ('//a_b.example/', 'http://a_b.example/'), ('//', None),
    ('///', None), ('////', None), ('ftp://x/', None), ('mailto:a@b', None), ('javascript:1', None), ('data:,x', None),
    ('//ex%41mple/', 'http://example/'), ('a\tb', 'http://kestrel.example/a/b/ab'), ('a\nb', 'http://kestrel.example/a/b/ab'),
    ('\tb', 'http://kestrel.example/a/b/b'), ('//a%00b/', None), ('//a<b/', None), ('//a^b/', None), ('//a|b/', None),
    ('/a\'b"c<d>', "http://kestrel.example/a'b%22c%3Cd%3E"), ('//other.example?q', 'http://other.example/?q'),
    ('//other.example#f', 'http://other.example/'), ('//other.example\\d', 'http://other.example/d'), ('/%', 'http://kestrel.example/%'),
    ('/%2', 'http://kestrel.example/%2'), ('/a%2Fb', 'http://kestrel.example/a%2Fb'), ('/A%41', 'http://kestrel.example/A%41'),
    ('//0/', 'http://0.0.0.0/'), ('//1/', 'http://0.0.0.1/'), ('//0xffffffff/', 'http://255.255.255.255/'), ('//4294967296/', None),
    ('//1.0x/', 'http://1.0.0.0/'), ('//other.example:00080/', 'http://other.example/'), ('//other.example: 80/', None), ('https:', None),
    ('http:', 'http://kestrel.example/a/b/c.html?x=1'), ('http:?q', 'http://kestrel.example/a/b/c.html?q'),
    ('http:#f', 'http://kestrel.example/a/b/c.html?x=1'), ('http:.', 'http://kestrel.example/a/b/'), ('http:..', 'http://kestrel.example/a/'),
]  # fmt: skip
#: The same against the secure base.
SECURELY = [
    ('http:d', 'http://d/'), ('https:d', 'https://kestrel.example:8443/a/d'), ('https:/d', 'https://kestrel.example:8443/d'),
    ('//other.example:443/', 'https://other.example/'), ('//other.example:8443', 'https://other.example:8443/'),
    ('https://other.example:443/', 'https://other.example/'), ('http://other.example:443/', 'http://other.example:443/'),
    ('?', 'https://kestrel.example:8443/a/'), ('#', 'https://kestrel.example:8443/a/'), ('..', 'https://kestrel.example:8443/'),
]  # fmt: skip


@pytest.mark.parametrize(
    ("base", "reference", "expected"), [*((PLAIN, *row) for row in ROWS), *((SECURE, *row) for row in SECURELY)]
)
def test_a_reference_as_browsers_take_it(base, reference, expected):
    """The address, or that there is none; never anything else."""
    try:
        found = str(join(parse(base), reference, "chromium"))
    except BadUrlError:
        found = None
    assert found == expected
