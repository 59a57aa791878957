"""A real RADIUS server for the tests, thrown away behind them: it authenticates against a directory
and then asks Oak Tag for the group."""

from __future__ import annotations

import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from directories import BASE, PASSWORD, READER, Directory

CONFIG = """
prefix = /usr
libdir = /usr/lib/freeradius
logdir = {place}
run_dir = {place}
pidfile = {place}/pid
max_request_time = 10
security {{
  allow_core_dumps = no
}}
thread pool {{
  start_servers = 1
  max_servers = 2
}}
client here {{
  ipaddr = 127.0.0.1
  secret = "{secret}"
}}
modules {{
  pap {{
  }}
  ldap {{
    server = '{directory}'
    identity = '{reader}'
    password = '{password}'
    base_dn = '{base}'
    user {{
      base_dn = "${{..base_dn}}"
      filter = "(uid=%{{User-Name}})"
    }}
    tls {{
      ca_file = {ca}
      require_cert = demand
    }}
  }}
  exec oaktag {{
    program = "{place}/ask-oaktag %{{User-Name}} %{{NAS-IP-Address}} %{{NAS-Port-Id}}"
    wait = yes
    input_pairs = request
    output_pairs = reply
    shell_escape = yes
  }}
}}
server default {{
  listen {{
    type = auth
    ipaddr = 127.0.0.1
    port = {port}
  }}
  authorize {{
    ldap
    if (&User-Password) {{
      update control {{
        Auth-Type := LDAP
      }}
    }}
  }}
  authenticate {{
    Auth-Type LDAP {{
      ldap
    }}
  }}
  post-auth {{
    oaktag
  }}
}}
"""
ASK = r"""#!/bin/sh
printf 'User-Name="%s",NAS-IP-Address=%s,NAS-Port-Id="%s",Message-Authenticator=0x00\n' "$1" "$2" "$3" |
  radclient -x -r 2 -t 2 127.0.0.1:{port} auth "{secret}" | sed -n 's/^\t\(Filter-Id = .*\)/\1/p'
"""


def is_here() -> bool:
    """Whether this machine has one."""
    return shutil.which("freeradius", path="/usr/sbin:/usr/bin:/sbin") is not None


@contextmanager
def radius_server(people: Directory, oaktag: int, secret: str) -> Iterator[int]:
    """A server that asks a directory for passwords, and Oak Tag at a port for groups; its port."""
    place = Path(tempfile.mkdtemp(prefix="radius-", dir="/tmp"))
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as one:
        one.bind(("127.0.0.1", 0))
        port = one.getsockname()[1]
    (place / "radiusd.conf").write_text(
        CONFIG.format(
            place=place, secret=secret, directory=people.tls, reader=READER, password=PASSWORD,
            base=BASE, ca=people.ca, port=port,
        )
    )  # fmt: skip
    (place / "dictionary").write_text("$INCLUDE /usr/share/freeradius/dictionary\n")
    ask = place / "ask-oaktag"
    ask.write_text(ASK.format(port=oaktag, secret=secret))
    ask.chmod(0o755)
    log = (place / "log").open("w")
    server = subprocess.Popen(
        ["/usr/sbin/freeradius", "-X", "-d", str(place), "-n", "radiusd"], stdout=log, stderr=log
    )
    try:
        for _ in range(200):
            said = (place / "log").read_text(errors="replace")
            if "Ready to process requests" in said or server.poll() is not None:
                break
            time.sleep(0.05)
        assert "Ready to process requests" in said, said[-3000:]
        yield port
    finally:
        server.terminate()
        server.wait(10)
        log.close()
        shutil.rmtree(place, ignore_errors=True)
