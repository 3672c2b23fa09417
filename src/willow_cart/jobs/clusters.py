"""Use the workers of a cluster, if there is to be one."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing, contextmanager
from typing import TYPE_CHECKING

from willow_cart.addresses import host_of
from willow_cart.jobs.job_events import OpenCluster
from willow_cart.jobs.job_observer import JobObserver
from willow_cart.platform import processes
from willow_cart.protocols.http.proxies import is_this_machine

if TYPE_CHECKING:
    from willow_cart.executors.cluster import Cluster


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
    from willow_cart.executors.cluster import Cluster  # most commands have none

    with closing(Cluster(scheduler)) as cluster:
        shown = cluster.client.shown
        if shown.startswith("tcp://"):
            is_here = is_this_machine(host_of(shown).rpartition(":")[0].strip("[]"))
            if not is_here or processes.has_other_users():
                observer.note(OpenCluster(shown, is_here))
        yield cluster
