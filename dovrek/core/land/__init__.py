"""Land: heights of a relief, where rays meet it, how much sky it sees."""
