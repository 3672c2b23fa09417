"""What is in a file, told from as few of its bytes as possible."""
