"""Sources: lists, tables, pages, folders, feeds, sitemaps, and single files."""
