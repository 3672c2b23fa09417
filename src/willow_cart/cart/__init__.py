"""The cart: a list of offers to review, as a value and as a file."""

from willow_cart.cart.cart import Cart
from willow_cart.cart.cart_view import CartView
from willow_cart.cart.columns import CART_COLUMNS, COLUMNS
from willow_cart.cart.forms import form_for
from willow_cart.cart.loading import Find, Loaded, load, load_as
from willow_cart.cart.picking import Picked, Way, learn_in, mark_in, pick_in
from willow_cart.cart.rows import read_marked, write_table
from willow_cart.cart.sheet import cover
from willow_cart.cart.splitting import CartPart, DrivePacking, SharePacking, split
from willow_cart.cart.undoing import undo
from willow_cart.cart.weighing import Weight, weigh

__all__ = [
    "CART_COLUMNS",
    "COLUMNS",
    "Cart",
    "CartPart",
    "CartView",
    "DrivePacking",
    "Find",
    "Loaded",
    "Picked",
    "SharePacking",
    "Way",
    "Weight",
    "cover",
    "form_for",
    "learn_in",
    "load",
    "load_as",
    "mark_in",
    "pick_in",
    "read_marked",
    "split",
    "undo",
    "weigh",
    "write_table",
]
