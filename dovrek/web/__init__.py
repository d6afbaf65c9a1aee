"""The application: pages and the live picture."""
