"""Web pages as sources: their markup, and the references in it."""
