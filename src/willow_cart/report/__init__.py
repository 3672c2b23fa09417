"""The receipt as a page: one file that any browser shows, now and in ten years."""

from willow_cart.report.page import write_page

__all__ = ["write_page"]
