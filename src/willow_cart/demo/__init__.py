"""The Harrowmere Wetland Trust: made-up data, a stand-in server, and the full example.

Apart from the rest of the house: the product does not need it, and it uses the product only as
people do, by its commands.
"""
