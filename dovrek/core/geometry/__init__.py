"""Where rays go: the round planet, lenses, and views (one file each) from pixels to rays."""
