"""What the service measures of itself, in Prometheus' text format: requests by route, roll-out, ages, growth."""

from __future__ import annotations

from collections.abc import Iterator

from prometheus_client import CollectorRegistry, Counter, Histogram, start_http_server
from prometheus_client.core import GaugeMetricFamily, Metric
from prometheus_client.exposition import CONTENT_TYPE_LATEST, generate_latest

from portero.service.keepers import Keepers
from portero.store import device_lists, feeds, sizes

MEDIA_TYPE = CONTENT_TYPE_LATEST
_BUCKETS = (0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0, 30.0)


class Metrics:
    """Counts while the service runs; what is kept in the store is looked up when somebody asks."""

    def __init__(self, keepers: Keepers | None) -> None:
        self._registry = CollectorRegistry()
        self._requests = Counter(
            "portero_requests", "Requests answered.", ("route", "method", "status"), registry=self._registry
        )
        self._seconds = Histogram(
            "portero_request_seconds", "How long answers took.", ("route",), buckets=_BUCKETS, registry=self._registry
        )
        if keepers is not None:
            self._registry.register(_Kept(keepers))

    def note_request(self, route: str, method: str, status: int, seconds: float) -> None:
        """A request was answered. `route` is its path with names in place of what was asked for."""
        self._requests.labels(route, method, str(status)).inc()
        self._seconds.labels(route).observe(seconds)

    def serve(self, address: str, port: int) -> None:
        """Tell it to everybody who asks at an address of its own. OSError."""
        start_http_server(port, address, self._registry)

    def written(self) -> bytes:
        """All of it, as text."""
        return generate_latest(self._registry)


class _Kept:
    """What the store knows."""

    def __init__(self, keepers: Keepers) -> None:
        self._keepers = keepers

    def describe(self) -> list[Metric]:
        return []

    def collect(self) -> Iterator[Metric]:
        keepers, now = self._keepers, self._keepers.now()
        epoch = keepers.fleet.epoch()
        with keepers.store.reading() as connection:
            counts = device_lists.rollout_counts(connection, now)
            rows, polls = sizes.rows(connection), feeds.statuses(connection)
        rollout = GaugeMetricFamily("portero_devices", "Machines by how far their roll-out is.", labels=("rollout",))
        for state in ("current", "waiting", "failed", "silent"):
            rollout.add_metric((state,), getattr(counts, state))
        yield rollout
        yield GaugeMetricFamily("portero_revision", "The newest revision.", epoch.revision)
        yield GaugeMetricFamily("portero_epoch", "The service's epoch.", epoch.epoch)
        yield GaugeMetricFamily(
            "portero_devices_ahead", "Machines that hold more than the service ever had.", epoch.devices_ahead
        )
        growth = GaugeMetricFamily("portero_rows", "Rows that are kept, by table.", labels=("table",))
        for table, number in rows.items():
            growth.add_metric((table,), number)
        yield growth
        yield GaugeMetricFamily(
            "portero_store_bytes", "Size of the store's file.", sizes.file_bytes(keepers.store.path)
        )
        yield GaugeMetricFamily("portero_held_requests", "Requests that wait for news.", keepers.live.held)
        ages = GaugeMetricFamily("portero_feed_age_seconds", "Seconds since a feed was read well.", labels=("feed",))
        for feed, status in polls.items():
            if status.poll is not None and not status.poll.problem:
                ages.add_metric((feed,), now - status.poll.at.timestamp())
        yield ages
