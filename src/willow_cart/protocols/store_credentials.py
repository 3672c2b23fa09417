"""The credentials for object stores in the usual places: environment, shared files, and roles."""

from __future__ import annotations

import threading
from typing import TYPE_CHECKING

from willow_cart.errors import BadOption, SignInFailed, said_in

if TYPE_CHECKING:
    from botocore.credentials import Credentials

# Roles of a machine, a container and a workload. Asking for them takes seconds where nothing
# answers, and shows that a program runs there.
_AMBIENT = ("iam-role", "container-role", "assume-role-with-web-identity")

# How long the service that knows the role of a machine is waited for, and how often.
_SERVICE_SECONDS = 2
_SERVICE_ATTEMPTS = 2


class UsualCredentials:
    """The credentials in the usual places, read when first used; thread-safe.

    Args:
        profile: of the shared credentials file; empty for the one that is named by the
            environment, or the default one.
        ambient: whether to ask for the role of this machine as well.
    """

    def __init__(self, profile: str = "", *, ambient: bool = False) -> None:
        self._profile = profile
        self._ambient = ambient
        self._lock = threading.Lock()
        self._found: list[Credentials | None] = []

    def load(self) -> Credentials | None:
        """Return the credentials; None if there are none. Those of roles renew themselves.

        Raises:
            BadOption: there is no such profile.
            SignInFailed: credentials were asked for by name, and there are none.
        """
        with self._lock:
            if not self._found:
                self._found.append(self._load())
            return self._found[0]

    def _load(self) -> Credentials | None:
        import botocore.exceptions
        import botocore.session

        session = botocore.session.Session(profile=self._profile or None)
        session.set_config_variable("metadata_service_timeout", _SERVICE_SECONDS)
        session.set_config_variable("metadata_service_num_attempts", _SERVICE_ATTEMPTS)
        try:
            resolver = session.get_component("credential_provider")
            if not self._ambient:
                for name in _AMBIENT:
                    resolver.remove(name)
            found: Credentials | None = resolver.load_credentials()
        except botocore.exceptions.ProfileNotFound:
            known = ", ".join(session.available_profiles) or "none"
            raise BadOption(
                f"--profile {self._profile}", "no such profile", f"known profiles: {known}"
            ) from None
        except (botocore.exceptions.BotoCoreError, OSError, ValueError) as error:
            raise SignInFailed(
                "credentials for object stores", f"cannot be read: {said_in(error)}", "check them"
            ) from None
        if found is None and self._profile:
            raise BadOption(f"--profile {self._profile}", "has no credentials", "check the file")
        if found is None and self._ambient:
            raise BadOption(
                "--ambient", "this machine has no role that can be used", "leave it out"
            )
        return found
