"""What screens share: answers, security, where files are found, base templates, the board's style."""
