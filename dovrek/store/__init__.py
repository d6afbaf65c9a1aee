"""What is kept: skies and their revisions, pictures of them, prints. SQLite through peewee."""
