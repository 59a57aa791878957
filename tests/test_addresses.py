"""Addresses as text, against the standard library; classes of hosts, against asking one by one."""

from __future__ import annotations

import ipaddress
from collections import Counter
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from networks import SEEDS, random_net, write_net
from oaktag.core.addresses import (
    Prefix,
    address_text,
    is_address,
    key_number,
    keys,
    parse_address,
    parse_prefix,
    span_text,
)
from oaktag.core.population import classes

byte = st.sampled_from(
    ["0", "1", "9", "10", "99", "100", "255", "256", "300", "01", "", "-1", "a", "٣"]
)
word = st.sampled_from(["0", "1", "ffff", "FFFF", "db8", "2001", "", "12345", "g"])
tail = st.sampled_from(
    ["", "", "", "/0", "/8", "/24", "/32", "/33", "/64", "/128", "/129", "/", "/x", " ", "%eth0"]
)
texts = st.one_of(
    st.builds(lambda parts, end: ".".join(parts) + end, st.lists(byte, min_size=3, max_size=5), tail),
    st.builds(lambda parts, end: ":".join(parts) + end, st.lists(word, min_size=2, max_size=9), tail),
    st.builds(lambda low, end: f"::ffff:{low}{end}", st.sampled_from(["10.0.0.1", "a00:1"]), tail),
    st.builds(lambda n, end: str(ipaddress.IPv6Address(n)) + end, st.integers(0, 2**128 - 1), tail),
    st.builds(lambda n, end: str(ipaddress.IPv4Address(n)) + end, st.integers(0, 2**32 - 1), tail),
)  # fmt: skip


@settings(max_examples=400)
@given(text=texts)
def test_prefixes_are_read_as_the_standard_library_reads_them(text: str) -> None:
    """And what it refuses is refused, with the text in the message; mapped ones are IPv4."""
    try:
        network = ipaddress.ip_network(text)
        if "%" in text:
            raise ValueError("names an interface")
    except ValueError:
        with pytest.raises(
            ValueError, match=r"is no address|host bits|names an interface"
        ) as error:
            parse_prefix(text)
        assert repr(text) in str(error.value)
        assert not is_address(text)
        return
    found = parse_prefix(text)
    mapped = getattr(network.network_address, "ipv4_mapped", None)
    if mapped is not None and network.prefixlen >= 96:
        assert found == Prefix(4, int(mapped), network.prefixlen - 96)
        return
    assert found == Prefix(network.version, int(network.network_address), network.prefixlen)
    assert found.end == int(network.broadcast_address)
    assert str(found) == str(network)
    assert parse_prefix(str(found)) == found
    single = network.prefixlen == network.max_prefixlen
    assert is_address(text) == single
    if single:
        assert parse_address(text) == (found.family, found.start)
        assert address_text(*parse_address(text)) == str(network.network_address)
    else:
        with pytest.raises(ValueError, match="one address is meant"):
            parse_address(text)
    assert span_text(found.family, found.start, found.end) == str(
        network.network_address if single else network
    )


@given(
    family=st.sampled_from((4, 6)),
    numbers=st.lists(st.integers(0, 2**32 - 1), min_size=1, max_size=20),
    shift=st.sampled_from((0, 64, 96)),
)
def test_keys_sort_as_numbers_do(family: int, numbers: list[int], shift: int) -> None:
    numbers = [n << shift if family == 6 else n for n in numbers]
    made = keys(family, numbers)
    assert [key_number(family, k) for k in made] == numbers
    assert [key_number(family, k) for k in sorted(made)] == sorted(numbers)


@given(first=st.integers(0, 2**32 - 2), size=st.integers(1, 600))
def test_a_span_says_just_its_addresses(first: int, size: int) -> None:
    last = min(first + size - 1, 2**32 - 1)
    said = span_text(4, first, last)
    if "-" in said:
        ends = [int(ipaddress.ip_address(w)) for w in said.split("-")]
    else:
        network = ipaddress.ip_network(said)
        ends = [int(network.network_address), int(network.broadcast_address)]
    assert ends == [first, last]


@pytest.mark.parametrize("seed", SEEDS)
def test_classes_hold_hosts_that_fare_alike(seed: int, tmp_path: Path) -> None:
    """Two hosts are of one class just if place and group are the same and every table says the
    same of both; asked of each table address by address."""
    model = write_net(random_net(seed), tmp_path).model
    hosts = model.hosts
    tables = model.state.tables
    assert len({id(t) for t in tables}) == len(tables)
    found = classes(hosts, tables)
    assert Counter(h for c in found for h in c.hosts) == Counter(hosts)
    assert [c.host for c in found] == [c.hosts[0] for c in found]
    assert [hosts.index(c.host) for c in found] == sorted(hosts.index(c.host) for c in found)
    kinds = []
    for one in found:
        for host in one.hosts:
            assert [t.tag(host.family, host.address) for t in tables] == list(one.tags)
        kinds.append(
            {
                (h.family, h.segment, h.node, h.group, h.own, h.endpoint < 0, tuple(one.tags))
                for h in one.hosts
            }
        )
    assert all(len(kind) == 1 for kind in kinds)
    assert len(set.union(*kinds)) == len(kinds)
    for node, number in model.state.table_of.items():
        assert tables[number] is model.knowledge.at(node)
    assert classes([], tables) == []
