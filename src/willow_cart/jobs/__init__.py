"""The jobs: for each command a function that takes a request and returns a result."""
