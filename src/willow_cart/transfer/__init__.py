"""One file on its way: its partial file, its attempts, its checks, and its commit."""
