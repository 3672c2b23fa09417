"""The receipt as a self-contained web page."""

from willow_cart.report.page import write_page

__all__ = ["write_page"]
