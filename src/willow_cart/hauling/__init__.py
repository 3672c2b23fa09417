"""Haul offers: fetch, check and file."""
