"""Compare: versions, photographs, and Suggest."""
