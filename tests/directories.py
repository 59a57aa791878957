"""A real directory server for the tests, thrown away behind them."""

from __future__ import annotations

import re
import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

BASE = "dc=quillmere,dc=example"
READER, PASSWORD = f"cn=reader,{BASE}", "reads the directory"
CONFIG = """
include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
attributetype ( 1.3.6.1.4.1.32473.1 NAME 'site' SUP name )
modulepath /usr/lib/ldap
moduleload back_mdb
pidfile {place}/pid
TLSCACertificateFile {place}/ca.pem
TLSCertificateFile {place}/cert.pem
TLSCertificateKeyFile {place}/key.pem
sizelimit {limit}
database mdb
maxsize 268435456
suffix "{base}"
rootdn "cn=admin,{base}"
rootpw admin
directory {place}/data
index objectClass,uid eq
access to attrs=userPassword by anonymous auth by * none
access to * by dn.exact="{reader}" read by anonymous auth by * none
"""
TOP = f"""dn: {BASE}
objectClass: dcObject
objectClass: organization
o: Quillmere
dc: quillmere

dn: {READER}
objectClass: organizationalRole
objectClass: simpleSecurityObject
cn: reader
userPassword: {PASSWORD}

"""


class Directory(NamedTuple):
    """Where it is: plain and by TLS; the certificate that it is to be known by."""

    plain: str
    tls: str
    ca: Path


def is_here() -> bool:
    """Whether this machine has one."""
    return shutil.which("slapd", path="/usr/sbin:/usr/bin:/sbin") is not None


@contextmanager
def directory(ldif: str, limit: str = "unlimited") -> Iterator[Directory]:
    """A server with some entries, below those of the base."""
    place = Path(tempfile.mkdtemp(prefix="ldap-", dir="/tmp"))
    (place / "data").mkdir()
    # One of those who ask takes the machine's own name for localhost.
    names = sorted({"localhost", socket.gethostname(), socket.getfqdn()})

    def run(*command: str, text: str = "") -> None:
        done = subprocess.run(
            command, input=text, capture_output=True, text=True, check=False, cwd=place
        )
        assert done.returncode == 0, (command, done.stderr[-2000:])

    run("openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-keyout", "key.pem",
        "-out", "cert.pem", "-subj", "/CN=localhost", "-addext", "subjectAltName=" + ",".join(f"DNS:{name}" for name in names))  # fmt: skip
    shutil.copy(place / "cert.pem", place / "ca.pem")
    config = CONFIG.format(place=place, base=BASE, reader=READER, limit=limit)
    (place / "slapd.conf").write_text(config)
    bare = re.sub(r"^version: 1\n", "", ldif)
    units = {m[1] for m in re.finditer(rf"^dn: .*?,(ou=[^,]+),{BASE}$", bare, re.MULTILINE)}
    tops = "".join(
        f"dn: {unit},{BASE}\nobjectClass: organizationalUnit\nou: {unit[3:]}\n\n"
        for unit in sorted(units)
        if f"dn: {unit},{BASE}\n" not in bare
    )
    whole = TOP + tops + re.sub(r"^(objectClass: \S+)$", r"\1", bare, flags=re.MULTILINE)
    run("/usr/sbin/slapadd", "-s", "-q", "-f", "slapd.conf", text=whole)
    ports = _free(2)
    urls = f"ldap://localhost:{ports[0]}", f"ldaps://localhost:{ports[1]}"
    server = subprocess.Popen(
        ["/usr/sbin/slapd", "-f", "slapd.conf", "-h", " ".join(urls), "-d", "0"], cwd=place,
        stderr=subprocess.DEVNULL,
    )  # fmt: skip
    try:
        for _ in range(200):
            if all(_answers(port) for port in ports):
                break
            time.sleep(0.05)
        yield Directory(*urls, place / "ca.pem")
    finally:
        server.terminate()
        server.wait(10)
        shutil.rmtree(place, ignore_errors=True)


def _free(count: int) -> list[int]:
    """Ports that nobody has."""
    held = [socket.socket() for _ in range(count)]
    for one in held:
        one.bind(("127.0.0.1", 0))
    ports = [one.getsockname()[1] for one in held]
    for one in held:
        one.close()
    return ports


def _answers(port: int) -> bool:
    try:
        socket.create_connection(("localhost", port), 1).close()
    except OSError:
        return False
    return True
