"""Recipes: the library, and recipes going into skies and out of them."""
