"""nginx's directives that decide nothing of what a visitor gets: logs, buffers, connections kept, packing, limits of the machine."""

import re

_NAMES = """
access_log error_log log_format log_not_found log_subrequest open_log_file_cache rewrite_log uninitialized_variable_warn
sendfile\\w* aio aio_write directio\\w* tcp_no\\w+ keepalive\\w* reset_timedout_connection send_\\w+ lingering_\\w+ postpone_output
client_(?:body|header)_(?:buffer_size|buffers|timeout|in_file_only|in_single_buffer|temp_path) large_client_header_buffers
connection_pool_size request_pool_size output_buffers read_ahead max_ranges etag if_modified_since
types_hash\\w* server_names_hash\\w* variables_hash\\w* map_hash\\w* types default_type charset\\w* override_charset
gzip\\w* brotli\\w* zstd\\w* gunzip\\w* server_tokens msie_\\w+ chunked_transfer_encoding open_file_cache\\w*
ssl_(?:session\\w*|prefer_server_ciphers|ciphers|ecdh_curve|dhparam|buffer_size|early_data|stapling\\w*|conf_command)
ssl_trusted_certificate ssl_client_certificate ssl_verify_depth ssl_crl ssl_ocsp\\w* http2\\w* http3\\w* quic\\w* expires
proxy_(?:buffer\\w*|busy_buffers\\w*|max_temp_file_size|temp_\\w+|http_version|connect_timeout|send_timeout|socket_keepalive)
proxy_(?:headers_hash\\w*|request_buffering|pass_request_\\w+|limit_rate|force_ranges|ignore_client_abort|pass_header|hide_header)
proxy_ssl_(?:session\\w*|protocols|ciphers)
fastcgi_(?:param|buffer\\w*|busy_buffers\\w*|read_timeout|connect_timeout|send_timeout|index|temp\\w*|max_temp_file_size)
fastcgi_(?:split_path_info|intercept_errors|hide_header|pass_header|request_buffering|keep_conn) uwsgi_(?:param|read_timeout|buffer\\w*)
scgi_param merge_slashes resolver resolver_timeout limit_rate\\w* limit_\\w+_(?:status|log_level|dry_run)
limit_(?:req|conn)_zone proxy_cache_path fastcgi_cache_path add_trailer autoindex_\\w+ worker_\\w+ pid events
load_module daemon master_process timer_resolution env pcre_jit thread_pool debug_\\w+ lock_file ssl_engine stub_status
subrequest_output_buffer_size ignore_invalid_headers underscores_in_headers zone
"""
SILENT = re.compile("|".join(_NAMES.split()))
#: Header fields to a program behind that tell only who the visitor is, or how the connection is kept.
WHO = re.compile(
    r"(?i)(?:x-real-ip|x-forwarded-for|x-client-ip|forwarded|x-original-.*|x-request-id|upgrade|connection"
    r"|accept-encoding|sec-websocket-.*|x-nginx-proxy|early-data|range|if-range|proxy)"
)
