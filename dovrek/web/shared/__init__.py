"""What screens share: answers, security, where files are, base templates, the board's style."""
