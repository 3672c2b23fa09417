"""Open formats: a module each, which reads and writes."""
