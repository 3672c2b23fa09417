"""The cart: a list of offers to review, as a value and as a file."""
