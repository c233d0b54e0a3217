"""nginx in front of the web process: it alone meets clients, so that slow ones hold a connection of nginx and no thread of ours.

Headers and small bodies arrive whole before they are passed on; uploads are passed on as they come, so that who may not upload is told
so before a byte is stored. The web process listens on a socket in a folder that only its own user can enter.
"""

import os
import re
from dataclasses import dataclass
from pathlib import Path

from eddyfall.site.cluster import ClusterError

UPLOAD = r"^/api/projects/[0-9]+/builds(/[0-9]+/(captures/.+|deliveries|supply))?$"
SMALL_BODY_MIB = 2
CONNECTIONS_OF_ONE = 256
SIGN_INS_A_MINUTE, SIGN_INS_AT_ONCE = 60, 60  # from one address, right or wrong
ADDRESS = re.compile(r"^[0-9A-Fa-f.:/]+$")


@dataclass(frozen=True)
class Front:
    """bind, port: where clients come; run: folder of sockets and of this configuration; stored: folder of files by hash; proxies:
    addresses of proxies before this one, whose word about the client's address and about HTTPS is taken; certificate, key: where this
    one speaks HTTPS itself."""

    bind: str
    port: int
    run: Path
    upload_bytes: int
    stored: Path
    proxies: tuple[str, ...] = ()
    https_outside: bool = False
    certificate: str = ""
    key: str = ""

    @property
    def web_socket(self) -> Path:
        """Where the web process listens."""
        return self.run / "web.sock"

    @property
    def address(self) -> str:
        """What a browser opens."""
        host = f"[{self.bind}]" if ":" in self.bind else self.bind
        return f"{'https' if self.certificate else 'http'}://{host}:{self.port}/"

    def command(self) -> list[str]:
        """Write the configuration and say how to start nginx with it. ClusterError if nginx is not there or a setting is none."""
        path = self.run / "nginx.conf"
        path.write_text(self.configuration())
        return [program(), "-p", str(self.run), "-c", str(path), "-e", "stderr", "-g", "daemon off;"]

    def configuration(self) -> str:
        """nginx's configuration."""
        for proxy in self.proxies:
            if not ADDRESS.match(proxy):
                raise ClusterError(f"{proxy!r} is no address of a proxy")
        host = f"[{self.bind}]" if ":" in self.bind else self.bind
        listen = f"listen {host}:{self.port}{' ssl' if self.certificate else ''};"
        tls = f"ssl_certificate {quoted(self.certificate)}; ssl_certificate_key {quoted(self.key)};" if self.certificate else ""
        real = " ".join(f"set_real_ip_from {proxy};" for proxy in self.proxies)
        scheme = "$http_x_forwarded_proto" if self.https_outside and not self.certificate else "$scheme"
        return CONFIGURATION.format(
            user="user root;" if os.getuid() == 0 else "", run=self.run, listen=listen, tls=tls, real=real, scheme=scheme,
            socket=self.web_socket, upload=UPLOAD, upload_bytes=self.upload_bytes, small=SMALL_BODY_MIB, most=CONNECTIONS_OF_ONE,
            stored=self.stored, sign_ins=SIGN_INS_A_MINUTE, burst=SIGN_INS_AT_ONCE,
        )  # fmt: skip


def program() -> str:
    """nginx's program. ClusterError if it is not installed."""
    for folder in ("/usr/sbin", "/usr/local/sbin", "/usr/bin"):
        if (Path(folder) / "nginx").exists():
            return f"{folder}/nginx"
    raise ClusterError("nginx is not installed (Debian package: nginx)")


def quoted(text: str) -> str:
    """A value of nginx's configuration."""
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


CONFIGURATION = """\
{user}
worker_processes 1;
worker_rlimit_nofile 16384;
pid "{run}/nginx.pid";
error_log stderr emerg;
events {{ worker_connections 8192; }}
http {{
  access_log off;
  server_tokens off;
  default_type application/json;
  client_body_temp_path "{run}/body"; proxy_temp_path "{run}/proxy";
  fastcgi_temp_path "{run}/unused"; uwsgi_temp_path "{run}/unused"; scgi_temp_path "{run}/unused";
  # A client that does not finish its headers, or sends nothing for a while, is let go.
  client_header_timeout 10s; client_body_timeout 20s; send_timeout 30s; keepalive_timeout 30s;
  reset_timedout_connection on;
  large_client_header_buffers 4 16k;
  limit_conn_zone $binary_remote_addr zone=people:4m;
  limit_conn people {most}; limit_conn_status 429;
  # Guessing passwords costs a guesser nothing and us little: what is more than an office signs in with is told so here.
  map "$request_method $uri" $signs_in {{
    default "";
    "POST /api/session" $binary_remote_addr;
    "POST /api/session/password" $binary_remote_addr;
  }}
  limit_req_zone $signs_in zone=signing_in:2m rate={sign_ins}r/m;
  limit_req_status 429;
  upstream web {{ server "unix:{socket}" max_fails=0; }}
  server {{
    {listen} {tls} {real}
    real_ip_header X-Forwarded-For;
    client_max_body_size {small}m;
    client_body_buffer_size {small}m;
    proxy_http_version 1.1;
    proxy_set_header Connection "close";
    proxy_set_header Host $http_host;
    proxy_set_header X-Real-IP $remote_addr;
    proxy_set_header X-Forwarded-For $remote_addr;
    proxy_set_header X-Forwarded-Proto {scheme};
    proxy_connect_timeout 5s; proxy_read_timeout 900s; proxy_send_timeout 60s;
    proxy_buffers 16 64k; proxy_buffer_size 64k; proxy_busy_buffers_size 128k; proxy_max_temp_file_size 64m;
    error_page 400 494 /-/bad; error_page 408 /-/slow; error_page 413 /-/large; error_page 429 /-/many;
    error_page 502 503 504 = @away;
    location / {{ limit_req zone=signing_in burst={burst} nodelay; proxy_pass http://web; }}
    location ~ {upload} {{
      client_max_body_size {upload_bytes};
      proxy_request_buffering off;
      proxy_pass http://web;
    }}
    location = /-/bad {{ internal; return 400 '{{"detail": "this is no request that can be read"}}'; }}
    location = /-/slow {{ internal; return 408 '{{"detail": "the request did not arrive in time"}}'; }}
    location = /-/large {{ internal; return 413 '{{"detail": "the request is larger than it may be"}}'; }}
    location = /-/many {{
      internal;
      add_header Retry-After 5 always;
      return 429 '{{"detail": "too much from one address; ask again shortly"}}';
    }}
    location /-/stored/ {{
      internal;
      alias "{stored}/";
      add_header X-Content-Type-Options nosniff;
      add_header Content-Security-Policy "default-src 'none'";
      error_page 404 /-/gone;
    }}
    location = /-/gone {{ internal; return 404 '{{"detail": "this does not exist any more"}}'; }}
    location @away {{
      add_header Retry-After 3 always;
      if ($uri !~ ^/api/) {{ return 503 "Eddyfall is starting again; load the page again in a moment."; }}
      return 503 '{{"detail": "the server is starting again; ask again shortly"}}';
    }}
  }}
}}
"""
