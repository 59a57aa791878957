"""What a node does with tags in frames, beside what its points do.

Rules kept here (semantics, section 6): the node where a packet enters marks it, if it marks, by the
binding it knows; nobody marks again later; a node that does not carry tags lets them end. The
kernel's own packets carry none. Of each flow the tag is kept that came in the frame of the packet
that opened it (``ct mark``).
"""

from __future__ import annotations

TABLE = "oaktag_entry"
#: The class of service of probes (RFC 2474; of the pool for local use): their opening packets pass
#: once, for one that is sent again would count twice in the cells.
PROBE_CLASS = 43
#: Groups of records: packets that open a flow, before the points of the node have judged them, and
#: after (``records``).
BEFORE, AFTER = 6, 7


def rules(*, marks: bool, carries: bool) -> str:
    """Text for the packet filter; what it says replaces what was said before."""
    lines = [
        f"table inet {TABLE} {{ }}",
        f"flush table inet {TABLE}",
        f"table inet {TABLE} {{",
        "map tags4 { type ipv4_addr : mark; flags interval; }",
        "map tags6 { type ipv6_addr : mark; flags interval; }",
        "set opened { typeof tcp sequence; flags dynamic; timeout 5s; size 65536; }",
        "chain enter { type filter hook prerouting priority mangle; policy accept;",
    ]
    for family in ("ip", "ip6"):
        opening = f'iifname "v*" {family} dscp {PROBE_CLASS} tcp flags & (syn | ack) == syn'
        lines.append(f"{opening} tcp sequence @opened drop")
        lines.append(f"{opening} add @opened {{ tcp sequence }}")
    lines += ['iifname "v*" meta mark set 0', 'iifname "l*" meta mark set meta mark & 0xffff']
    if marks:
        lines.append('iifname "v*" meta mark set ip saddr map @tags4')
        lines.append('iifname "v*" meta mark set ip6 saddr map @tags6')
    lines += ["ct state new ct mark set meta mark & 0xffff", "}"]
    lines.append("chain before { type filter hook forward priority -10; policy accept;")
    lines += [f"ct state new log group {BEFORE}", "}"]
    lines.append("chain between { type filter hook forward priority 10; policy accept;")
    lines.append(f"ct state new log group {AFTER}")
    if not carries:
        lines.append('iifname "l*" oifname "l*" meta mark set 0')
    # What is for the node itself, as its points judge it or not.
    for name, place, group in (("arriving", -10, BEFORE), ("arrived", 10, AFTER)):
        lines += ["}", f"chain {name} {{ type filter hook input priority {place}; policy accept;"]
        lines += [f'iifname {{ "v*", "l*" }} ct state new log group {group}']
    lines += ["}", "chain own { type route hook output priority mangle; policy accept;"]
    lines += ['oifname "l*" meta mark set 0', "}", "}"]
    return "\n".join(lines) + "\n"
