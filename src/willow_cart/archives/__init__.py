"""Read archives and extract them safely."""
