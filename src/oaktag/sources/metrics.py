"""Counts for Prometheus, in its text form."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any

from oaktag.errors import NotPossibleHere, OakTagError, UsageError

#: What is counted: how much waits, and how much there was of everything.
Counts = Callable[[], Mapping[str, Any]]


def served(address: str, counts: Counts) -> tuple[Callable[[], None], tuple[str, int]]:
    """Let counts be read over HTTP.

    Args:
        address: an address and a port.
        counts: what gives them: ``waiting``, and ``counts`` by a few words each.

    Returns:
        what ends it, and where it is.

    Raises:
        UsageError: the address is none.
        NotPossibleHere: a package is missing.
        OakTagError: the port cannot be had.
    """
    host, _, port = address.rpartition(":")
    if not host or not port.isdecimal() or int(port) > 65535:
        raise UsageError(f"{address!r} is no address with a port, as 127.0.0.1:9100 or [::1]:9100")
    try:
        from prometheus_client import CollectorRegistry, start_http_server
        from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily, Metric
        from prometheus_client.registry import Collector
    except ModuleNotFoundError as error:
        raise NotPossibleHere(
            f"--metrics needs the package {error.name}: pip install 'oaktag[live]'"
        ) from None

    class Held(Collector):
        def collect(self) -> Iterator[Metric]:
            held = counts()
            yield GaugeMetricFamily("oaktag_waiting", "Datagrams that wait.", held["waiting"])
            family = CounterMetricFamily("oaktag_listen", "What came, by what.", labels=["what"])
            for what, number in held["counts"].items():
                family.add_metric([what], number)
            yield family

    registry = CollectorRegistry()
    registry.register(Held())
    try:
        server, _ = start_http_server(int(port), host.strip("[]"), registry)
    except OSError as error:
        raise OakTagError(f"{address}: {error.strerror}") from None
    return server.shutdown, (host.strip("[]"), server.server_port)
