"""Willow Cart."""
