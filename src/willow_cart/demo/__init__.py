"""The demo: data of the fictional Harrowmere Wetland Trust, servers, and the full example.

Apart from the rest of the house: the product does not need it, and it uses the product only as
users do, by its commands.
"""
