"""How to be let in and talk: every protocol plugs in at one seam, `access.seam.Access`."""

from willow_cart.access.seam import Access, Delivery, Joining, Unchanged

__all__ = ["Access", "Delivery", "Joining", "Unchanged"]
