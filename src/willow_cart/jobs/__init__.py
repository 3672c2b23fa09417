"""What each command does: a function that takes a request and returns a result."""
