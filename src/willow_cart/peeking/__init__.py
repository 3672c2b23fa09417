"""Inspect files from as few bytes as possible."""
