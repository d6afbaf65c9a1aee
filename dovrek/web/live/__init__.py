"""The live picture: sessions, their looks, boards of small pictures, and the thread that renders
what is next. It knows nothing of pages.
"""
