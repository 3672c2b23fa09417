"""Where transfers run: in lanes of this process, or in further processes, behind one seam."""

from willow_cart.executors.executor import Executor, Outcome
from willow_cart.executors.processes import ProcessExecutor
from willow_cart.executors.threads import ThreadExecutor

__all__ = ["Executor", "Outcome", "ProcessExecutor", "ThreadExecutor"]
