"""Windows. What is not a call of its kernel runs on any system, and is tested on others too."""
