"""Apache httpd's directives that decide nothing of what a visitor gets, and those that are looked at where they decide."""

import re

_NAMES = """
\\w*log\\w* pidfile mutex defaultruntimedir timeout keepalive\\w* maxkeepaliverequests hostnamelookups user group accessfilename
servertokens serversignature traceenable serveradmin servername usecanonical\\w* startservers m(?:in|ax)\\w* thread\\w* serverlimit
asyncrequestworkerfactor listenbacklog coredumpdirectory types\\w*
add(?:type|encoding|charset|language|icon\\w*|defaultcharset|outputfilter\\w*|inputfilter|description|handler|alt\\w*)
defaulttype index(?:options|ignore|style\\w*|head\\w*|order\\w*) default(?:icon|language) headername readmename
forcelanguagepriority languagepriority browsermatch\\w* setenv\\w* unsetenv passenv requestreadtimeout deflate\\w* brotli\\w* filter\\w*
setoutputfilter extendedstatus seerequesttail proxystatus expires\\w* enablesendfile enablemmap contentdigest fileetag protocols\\w* h2\\w*
ssl(?:random\\w*|session\\w*|passphrase\\w*|cipher\\w*|honor\\w*|options|insecure\\w*|usestapling|stapling\\w*|compression)
ssl(?:opensslconfcmd|strictsnivhostcheck|cryptodevice) namevirtualhost remoteipproxiesheader security\\w* removehandler removetype
limitrequest(?:line|fields\\w*) proxy(?:requests|via|badheader|iobuffersize|receivebuffersize|addheaders|maxforwards|set|domain)
rewriteengine loadfile authn\\w* authtype authname authuserfile authgroupfile authbasic\\w* authdigest\\w* authz\\w*
script(?:sock|log\\w*) cgid\\w* php_\\w+ suexec\\w* lockfile gracefulshutdowntimeout receivebuffersize sendbuffersize acceptfilter
serverpath define errorlog\\w* cachelock\\w* mime\\w*
"""
SILENT = re.compile("|".join(_NAMES.split()))
#: Who is let in; worked out together.
ACCESS = frozenset(["require", "requireall", "requireany", "requirenone", "satisfy", "order", "allow", "deny"])
#: What is looked at with something else: with the site, its places, or what it passes on.
ELSEWHERE = frozenset(
    [
        "documentroot",
        "virtualdocumentroot",
        "serveralias",
        "sslengine",
        "sslcertificatefile",
        "sslcertificatekeyfile",
        "sslprotocol",
        "sslverifyclient",
        "sslverifydepth",
        "alias",
        "aliasmatch",
        "scriptalias",
        "scriptaliasmatch",
        "proxypass",
        "proxypassmatch",
        "proxypassreverse",
        "proxypreservehost",
        "proxymatch",
        "proxyerroroverride",
        "proxytimeout",
        "sslproxyverify",
        "sslproxyengine",
        "sslproxycheckpeername",
        "sslproxycheckpeercn",
        "sslproxycheckpeerexpire",
        "requestheader",
        "location",
        "locationmatch",
        "files",
        "filesmatch",
        "directory",
        "directorymatch",
        "proxy",
        "sslcertificatechainfile",
        "userdir",
        "wsgiscriptalias",
        "sslcacertificatefile",
        "proxypassreversecookiedomain",
        "proxypassreversecookiepath",
        "listen",
        "include",
    ]
)
#: Parts of a site that have no word in the estate.
UNKNOWN = frozenset(
    [
        "aliasmatch",
        "scriptalias",
        "scriptaliasmatch",
        "directorymatch",
        "wsgiscriptalias",
        "userdir",
        "proxymatch",
        "proxypassmatch",
    ]
)
