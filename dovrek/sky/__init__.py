"""The sky document: models, limits, reading, changes and advisories."""
