"""Where rays go: the round planet, lenses, and the views (one file each) that turn pixels to rays."""
