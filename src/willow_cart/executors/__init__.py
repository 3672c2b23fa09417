"""Where transfers run: in threads of this process or in other processes."""
