"""Ask the real kernel: load lists one after the other, send packets through, see which arrive.

``ask`` starts this file in a user namespace of its own. A wire leads into the router namespace
and one out of it; packets are put on the first as whole frames, the tag of a frame as its source
address, and what comes out of the second is what the list let pass. What is for an address of the
router's own is heard there, and what is from one is sent there, by raw sockets.
"""

from __future__ import annotations

import contextlib
import ipaddress
import json
import select
import socket
import struct
import subprocess
import sys
import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from oaktag.core.accesslist import AccessList
from oaktag.core.acting import act
from oaktag.core.addresses import address_text, parse_address
from oaktag.core.packets import Packet
from oaktag.dialects import DIALECTS, nftables, nftables_live
from oaktag.errors import OakTagError
from oaktag.lab.namespaces import NETNS, UNSHARE, inside, load, run, settings, with_tools


class Question(NamedTuple):
    """A packet, its ends, the tag in its frame, and how it comes: ``whole``; in ``fragments``, the
    ``first`` of two alone or a ``later`` one; with ``options``: extension headers, or those of
    IPv4; as the ``answer`` to one that was sent before."""

    packet: Packet
    source: str
    destination: str
    tag: int = 0
    form: str = "whole"


FORMS = ("fragments", "first", "later", "options")
#: Payload of the first of two fragments: of IPv4 before the header of TCP is whole; of IPv6 as
#: much as a fragment with others behind it must have (RFC 8200, section 5).
SPLIT = {4: 8, 6: 1280 - 40 - 8}
#: So much is left of a packet that is cut off: one port of two, or no code behind the type.
CUT = 1
#: The number of the packet behind all others, and its two addresses; so many seconds it is awaited.
LAST, UNJUDGED, PATIENCE = 0xFFFFFFFF, ("169.254.1.1", "169.254.1.2"), 2.0
_INET = {4: socket.AF_INET, 6: socket.AF_INET6}
#: The head is ours (linux/in6.h).
IPV6_HDRINCL = 36
MAC = "02:00:00:00:%02x:%02x"
SETTINGS = {
    "ipv4/ip_forward": "1", "ipv4/conf/all/rp_filter": "0", "ipv4/conf/default/rp_filter": "0",
    "ipv6/conf/all/forwarding": "1", "ipv6/conf/all/accept_dad": "0",
    "ipv6/conf/default/accept_dad": "0",
}  # fmt: skip
#: Sums are not right here, and whether a flow is known must not hang on them.
TRACKING = {"netfilter/nf_conntrack_checksum": "0"}
#: What has answers: TCP, UDP and echo requests.
ECHO = {4: (1, 8, 0), 6: (58, 128, 129)}


def ask(lists: list[tuple[str, list[Question]]], own: Sequence[str] = ()) -> list[list[bool] | str]:
    """For each list what passes of its questions; or why the packet filter refuses the list.

    Args:
        lists: texts, each with what is asked of it.
        own: addresses of the router itself.
    """
    done = subprocess.run(
        [*UNSHARE, sys.executable, __file__, *own], input=json.dumps(lists), capture_output=True,
        text=True, check=False, env=with_tools(), cwd=Path(__file__).parent,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr[-2000:]
    answers: list[list[bool] | str] = json.loads(done.stdout)
    return answers


def answer_to(question: Question, own: Sequence[str]) -> Question | None:
    """The answer to a question, if the kernel itself does not answer otherwise; its frame has no
    tag."""
    packet, source, destination, _, form = question
    echo = packet[1:3] == ECHO[packet.family][:2] and packet.destination_port == 0
    if form != "whole" or packet.source_port < 0 or not (packet.protocol in (6, 17) or echo):
        return None
    if destination in own and packet.protocol == 6:
        return None  # a port that nobody listens on is refused
    if source in own and packet.protocol == 58:
        return None  # heard only where its sum is right
    back = packet._replace(source_port=packet.destination_port, destination_port=packet.source_port)
    if echo:
        back = packet._replace(source_port=ECHO[packet.family][2])
    return Question(back, destination, source, 0, "answer")


def passing(
    questions: Sequence[Question], alone: Callable[[Question], bool], *, stateful: bool
) -> list[bool]:
    """What passes of some questions, each after those that it answers; ``alone`` says it of a packet
    that opens a flow."""
    passed: list[bool] = []
    known: set[tuple[str, str, int]] = set()
    for question in questions:
        ends = question.destination, question.source, question.packet.protocol
        part = stateful and question.form == "answer" and ends in known
        passed.append(part or alone(question))
        if passed[-1] and question.form == "whole":
            known.add((question.source, question.destination, question.packet.protocol))
    return passed


def as_read(held: AccessList, question: Question, own: Sequence[str]) -> bool:
    """Whether a packet that opens a flow passes a list as it was read back; what is for the router's
    own addresses, or from them, is judged where the list names these."""
    ends = parse_address(question.source)[1], parse_address(question.destination)[1]
    guarded = {address_text(s.family, s.start) for s in held.own}
    if {question.source, question.destination} & set(own) - guarded:
        return True
    return act(held, question.packet, *ends, question.tag).action == "allow"


def _router(number: int, marks: set[int], own: Sequence[str]) -> tuple[str, str]:
    router, ends = f"r{number}", f"e{number}"
    run(
        ["ip", "-batch", "-"],
        f"netns add {router}\nnetns add {ends}\n"
        f"link add in netns {router} type veth peer name src netns {ends}\n"
        f"link add out netns {router} type veth peer name dst netns {ends}\n",
    )
    with inside(router):
        settings(SETTINGS)
        run(
            ["ip", "-batch", "-"],
            "link set lo up\nlink set in up\nlink set out arp off up\n"
            + "".join(f"address add {a} dev lo\n" for a in own)
            + "route add default dev out\nroute add ::/0 dev out\n",
        )
        rules = "".join(
            f"ether saddr {MAC % divmod(tag, 256)} meta mark set {tag}\n" for tag in sorted(marks)
        )
        load(
            "table inet frames { chain enter { type filter hook prerouting priority mangle;\n"
            f"{rules}}}\n}}\n"
        )
        with contextlib.suppress(OSError):  # where nothing is tracked, nothing is known
            settings(TRACKING)
    with inside(ends):
        run(["ip", "-batch", "-"], "link set src up\nlink set dst up\n")
    return router, ends


def _loaded(text: str) -> None:
    """Load a list; in parts, as a lab does, where it is more than the kernel takes at once of one who
    is not root (EMSGSIZE)."""
    try:
        load(text)
    except OakTagError as error:
        if "Message too long" not in str(error):
            raise
        held = DIALECTS["nftables"].read(text)
        if held.source_bindings != held.destination_bindings:
            raise
        table = nftables.table_name(held.point)
        for part in nftables_live.load(table, text, held.source_bindings, held.blocks):
            load(part)


def _answer(
    number: int, text: str, questions: list[Question], own: Sequence[str]
) -> list[bool] | str:
    router, ends = _router(number, {q[3] for q in questions if q[3]}, own)
    with inside(router):
        raw = {
            (f, p): socket.socket(_INET[f], socket.SOCK_RAW, p)
            for f, p in {
                (q.packet.family, q.packet.protocol) for q in questions if q.destination in own
            }
        }
        leaving = {
            f: socket.socket(of, socket.SOCK_RAW, socket.IPPROTO_RAW) for f, of in _INET.items()
        }
        leaving[6].setsockopt(socket.IPPROTO_IPV6, IPV6_HDRINCL, 1)
        try:
            _loaded(text)
        except Exception as error:
            return str(error)
        mac = Path("/proc/net/dev")  # only to be sure that we look at this namespace's devices
        assert "out:" in mac.read_text(encoding="ascii")
        address = json.loads(run(["ip", "-j", "link", "show", "in"]))[0]["address"]
    with inside(ends):
        sending = socket.socket(socket.AF_PACKET, socket.SOCK_RAW)
        sending.bind(("src", 0))
        hearing = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3))
        hearing.bind(("dst", 0))
    passed = [False] * len(questions)
    # Answers come when all that they answer has gone through.
    order = sorted(range(len(questions)), key=lambda n: questions[n].form == "answer")
    opening = sum(question.form != "answer" for question in questions)
    parts = [(order[:opening])[n : n + 50] for n in range(0, opening, 50)]
    parts += [(order[opening:])[n : n + 50] for n in range(0, len(order) - opening, 50)]
    for part in parts:
        for at in part:
            question = questions[at]
            for frame in _frames(at, question, address):
                if question.source in own:
                    # What the list drops is refused (netfilter: NF_DROP is EPERM).
                    with contextlib.suppress(PermissionError):
                        leaving[question.packet.family].sendto(
                            frame[14:], (question.destination, 0)
                        )
                else:
                    sending.send(frame)
        # Nobody judges between these addresses: behind this packet none of those before it comes.
        sending.send(next(_frames(LAST, Question(Packet(4, 17, 9, 9), *UNJUDGED, 0), address)))
        for at in _arrived([hearing, *raw.values()]):
            passed[at] = True
    return passed


def _arrived(hearing: list[socket.socket]) -> Iterator[int]:
    """The numbers of what arrives, up to the last packet; of a list that lets it not pass, for so
    long that all others must have come."""
    deadline = time.monotonic() + PATIENCE
    while some := select.select(hearing, [], [], max(deadline - time.monotonic(), 0))[0]:
        for one in some:
            number = _number(one.recv(4096))
            if number == LAST:
                deadline = 0
            elif number is not None:
                yield number


def _number(data: bytes) -> int | None:
    """The number of a packet that was sent: behind its body, or in its head if it was cut off."""
    if data[-8:-4] == b"oak!":
        return int.from_bytes(data[-4:], "big")
    head = data[14:]
    if len(head) >= 20 and head[0] >> 4 == 4 and int.from_bytes(head[2:4], "big") == 20 + CUT:
        return int.from_bytes(head[4:6], "big")
    if len(head) >= 40 and head[0] >> 4 == 6 and int.from_bytes(head[4:6], "big") == CUT:
        return int.from_bytes(head[1:4], "big") & 0xFFFFF
    return None


def _frames(number: int, question: Question, router: str) -> Iterator[bytes]:
    (family, protocol, source_port, destination_port), source, destination, tag, form = question
    flags = 0x12 if form == "answer" else 2  # SYN, ACK
    body = _body(family, protocol, max(source_port, 0), max(destination_port, 0), flags)
    mark = b"oak!" + struct.pack("!I", number)
    ends = ipaddress.ip_address(source).packed + ipaddress.ip_address(destination).packed
    head = _head4 if family == 4 else _head6
    macs = bytes.fromhex(router.replace(":", "") + (MAC % divmod(tag, 256)).replace(":", ""))
    macs += b"\x08\x00" if family == 4 else b"\x86\xdd"
    if source_port < 0:  # cut off before its second port
        yield macs + head(ends, protocol, number, body[:CUT])
    elif form in ("whole", "answer"):
        yield macs + head(ends, protocol, number, body + mark)
    elif form == "options":
        yield macs + head(ends, protocol, number, body + mark, options=True)
    else:
        whole, at = body.ljust(SPLIT[family] + 8, b"\0") + mark, SPLIT[family]
        if form != "later":
            yield macs + head(ends, protocol, number, whole[:at], offset=0, more=True)
        if form != "first":
            yield macs + head(ends, protocol, number, whole[at:], offset=at)


def _head4(
    ends: bytes, protocol: int, number: int, body: bytes, *, offset: int = 0, more: bool = False,
    options: bool = False,
) -> bytes:  # fmt: skip
    """A head (RFC 791) and what it carries; ``options`` are four of no operation."""
    extra = b"\1\1\1\1" * options
    length, place = 20 + len(extra), offset // 8 | more << 13
    start = struct.pack(
        "!BBHHHBBH", 0x40 | length // 4, 0, length + len(body), number & 0xFFFF, place, 64,
        protocol, 0,
    )  # fmt: skip
    return start[:10] + struct.pack("!H", _sum(start + ends + extra)) + ends + extra + body


def _head6(
    ends: bytes, protocol: int, number: int, body: bytes, *, offset: int | None = None,
    more: bool = False, options: bool = False,
) -> bytes:  # fmt: skip
    """A head (RFC 8200) and what it carries, behind the header of a fragment where it is one;
    ``options`` are hop-by-hop ones and those of the destination, of padding alone."""
    if options:
        padding = b"\0\1\4\0\0\0\0"
        protocol, body = 0, b"\x3c" + padding + bytes((protocol,)) + padding + body
    elif offset is not None:
        protocol, body = 44, struct.pack("!BBHI", protocol, 0, offset | more, number) + body
    return struct.pack("!IHBB", 6 << 28 | number, len(body), protocol, 64) + ends + body


def _body(family: int, protocol: int, source: int, destination: int, flags: int) -> bytes:
    """Headers as far as a list looks at them; sums are not checked on the way."""
    if protocol == 6:
        ack = 2 if flags & 0x10 else 0
        return struct.pack("!HHIIBBHHH", source, destination, 1, ack, 5 << 4, flags, 1024, 0, 0)
    if protocol == 17:
        return struct.pack("!HHHH", source, destination, 16, 0)
    if protocol == 132:
        return struct.pack("!HHII", source, destination, 0, 0) + struct.pack(
            "!BBHIIHHI", 1, 0, 20, 1, 1, 1, 1, 1
        )
    if protocol == {4: 1, 6: 58}[family]:
        return struct.pack("!BBHHH", source, destination, 0, 1, 1)
    return b"\0" * 8


def _sum(data: bytes) -> int:
    total: int = sum(struct.unpack(f"!{len(data) // 2}H", data))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


def _main() -> None:
    run(["mount", "-t", "tmpfs", "tmpfs", "/run"])
    NETNS.mkdir()
    lists = json.load(sys.stdin)
    answers = []
    for number, (text, questions) in enumerate(lists):
        asked = [Question(Packet(*packet), *rest) for packet, *rest in questions]
        answers.append(_answer(number, text, asked, sys.argv[1:]))
    json.dump(answers, sys.stdout)


if __name__ == "__main__":
    _main()
