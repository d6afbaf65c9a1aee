"""The commands beside the plain ones of `cli`: `clip` (frames and films of the motion), and what
all share."""
