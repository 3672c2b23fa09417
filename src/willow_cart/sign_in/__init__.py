"""Sign-ins: secrets, and the origins they are sent to."""
