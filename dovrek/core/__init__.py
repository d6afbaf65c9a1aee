"""The computation: air, clouds, light and film. No web, no database, no HTML."""
