"""What the options of reaching places come to."""

from __future__ import annotations

import ssl
from dataclasses import replace

from willow_cart.access import Patience
from willow_cart.archives import Bounds
from willow_cart.errors import BadOption
from willow_cart.jobs.reaching_options import ConnectingOptions, PatienceOptions


def make_patience(options: ConnectingOptions | PatienceOptions) -> Patience:
    """Return how often the options want places asked again; as usual where there are none."""
    if not isinstance(options, PatienceOptions):
        return Patience()
    patience = Patience(attempts=options.attempts, longest_wait=options.longest_wait)
    if options.pause is not None:
        patience = replace(patience, pause=options.pause, growth=1.0, longest=options.pause)
    return patience


def make_context(request: ConnectingOptions) -> ssl.SSLContext | None:
    """What is trusted besides the system's certificates, and what proves who asks.

    Raises:
        BadOption: a file cannot be read.
    """
    if request.client_key is not None and request.client_cert is None:
        raise BadOption("--client-key", "is of no certificate", "give --client-cert as well")
    if request.ca is None and request.client_cert is None:
        return None
    context = ssl.create_default_context()
    try:
        option = f"--ca {request.ca}"
        if request.ca is not None:
            context.load_verify_locations(request.ca)
        option = f"--client-cert {request.client_cert}"
        if request.client_cert is not None:
            # An empty password: nobody is asked for one in the midst of the night.
            context.load_cert_chain(request.client_cert, request.client_key, password="")
    except (OSError, ssl.SSLError) as error:
        raise BadOption(option, f"cannot be read: {error}", "see to the file") from None
    return context


def read_bounds(text: str | None) -> Bounds:
    """Read how far an archive may swell.

    Args:
        text: as it was typed; None for as far as usual.

    Raises:
        BadOption: it cannot be read.
    """
    return Bounds() if text is None else Bounds.parse(text)
