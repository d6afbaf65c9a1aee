"""Weather reports as skies: pasted, or of the simulated station. Route: `weather`."""
