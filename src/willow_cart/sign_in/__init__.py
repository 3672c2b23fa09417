"""Sign-ins: which secrets there are, and which origin each is sent to."""
