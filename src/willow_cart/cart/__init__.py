"""The cart: the reviewable list of offers, as a value and as a file."""

from willow_cart.cart.cart import Cart
from willow_cart.cart.forms import form_for
from willow_cart.cart.loading import Find, Loaded, load, load_as
from willow_cart.cart.picking import Picked, Way, mark_in, pick_in
from willow_cart.cart.rows import COLUMNS, write_table
from willow_cart.cart.sheet import cover
from willow_cart.cart.splitting import DrivePacking, Part, SharePacking, split
from willow_cart.cart.undoing import undo
from willow_cart.cart.weighing import Weight, weigh

__all__ = [
    "COLUMNS",
    "Cart",
    "DrivePacking",
    "Find",
    "Loaded",
    "Part",
    "Picked",
    "SharePacking",
    "Way",
    "Weight",
    "cover",
    "form_for",
    "load",
    "load_as",
    "mark_in",
    "pick_in",
    "split",
    "undo",
    "weigh",
    "write_table",
]
