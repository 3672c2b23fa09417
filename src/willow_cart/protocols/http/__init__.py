"""HTTP (RFC 9110 and 9112): rules of its fields, responses, and connections."""
