"""The transfer of one file: partial file, attempts, checks, and commit."""
