"""Where transfers run: in threads of this process or in other processes."""

from willow_cart.executors.executor import Executor, Outcome
from willow_cart.executors.processes import ProcessExecutor
from willow_cart.executors.threads import ThreadExecutor

__all__ = ["Executor", "Outcome", "ProcessExecutor", "ThreadExecutor"]
