"""Use the workers of a cluster, if there is to be one."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import closing, contextmanager
from dataclasses import replace
from types import ModuleType
from typing import TYPE_CHECKING

from willow_cart.addresses import host_of
from willow_cart.jobs.connecting import places_in
from willow_cart.jobs.job_events import OpenCluster
from willow_cart.jobs.job_observer import JobObserver
from willow_cart.platform import processes
from willow_cart.protocols import Access
from willow_cart.protocols.http.proxies import is_this_machine
from willow_cart.sources.source_guide import Asking

if TYPE_CHECKING:
    from willow_cart.executors.cluster import Cluster


def _modules() -> tuple[ModuleType, ModuleType]:
    """Return the modules for fetching and for listing; most commands have no cluster."""
    from willow_cart.executors import cluster, cluster_listing

    return cluster, cluster_listing


@contextmanager
def connected_to(scheduler: object, observer: JobObserver) -> Iterator[Cluster | None]:
    """Connect to a scheduler.

    Args:
        scheduler: its address, its file, or a client of Dask's; None for none.
        observer: told if the line to it is open to others.

    Raises:
        UnusableCluster: nothing answers there.
    """
    if scheduler is None:
        yield None
        return
    with closing(_modules()[0].Cluster(scheduler)) as cluster:
        shown = cluster.client.shown
        if shown.startswith("tcp://"):
            is_here = is_this_machine(host_of(shown).rpartition(":")[0].strip("[]"))
            if not is_here or processes.has_other_users():
                observer.note(OpenCluster(shown, is_here))
        yield cluster


@contextmanager
def listed_by(
    cluster: Cluster | None, sources: Iterable[str], access: Access, asking: Asking, largest: int
) -> Iterator[Asking]:
    """Have the folders of sources listed by workers, if there are any.

    Args:
        cluster: has the workers.
        sources: as typed by the user.
        access: how places are talked to.
        asking: how responses are used.
        largest: bytes of a document that are read.

    Raises:
        UnusableCluster: they cannot be used.
    """
    hosts = {host_of(place) for place in places_in(sources)}
    if cluster is None or not hosts:
        yield asking
        return
    with closing(_modules()[1].ClusterLister(cluster.client, access, hosts, largest)) as lister:
        yield replace(asking, lister=lister)
