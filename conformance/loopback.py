"""What the runs about certificates share: one server of the estate, and real ones on loopback."""

import socket
import subprocess
import time
from datetime import UTC, datetime

#: Browsers' clocks cannot be set: what is made for these runs lies round the real moment.
NOW = datetime.now(UTC).replace(microsecond=0)


def one_server(web: str, rest: str) -> str:
    """An estate with one web server on the internet, by its facts, and what stands beside it."""
    return f"""\
portolan: 1
at: {NOW:%Y-%m-%dT%H:%M:%SZ}
networks: {{}}
hosts:
  orion:
    interfaces: {{internet: {{address: 203.0.113.40}}}}
    services:
      web: {web}
{rest}"""


def free_port() -> int:
    """A port on loopback that nobody has."""
    with socket.create_server(("127.0.0.1", 0)) as one:
        port: int = one.getsockname()[1]
    return port


def is_up(port: int, process: "subprocess.Popen[bytes]") -> bool:
    """Whether a program comes to listen, and stays: Apache httpd binds before it looks at certificates, and ends then."""
    for _ in range(100):
        if process.poll() is not None:
            return False
        try:
            with socket.create_connection(("127.0.0.1", port), timeout=0.2) as asked:
                # However busy the machine is: who only listens says nothing, and whoever ends closes.
                asked.settimeout(10)
                asked.sendall(b"GET / HTTP/1.0\r\n\r\n")
                return bool(asked.recv(1)) and process.poll() is None
        except OSError:
            time.sleep(0.05)
    return False
