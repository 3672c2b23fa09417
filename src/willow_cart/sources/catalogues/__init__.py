"""Catalogues by open standards: what they are, and their words."""
