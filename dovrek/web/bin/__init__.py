"""The bin: skies and prints that were deleted, for 30 days. Route: `bin`."""
