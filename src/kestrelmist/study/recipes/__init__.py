"""Recipes: what can be done again, on whom, checked, run and reported."""
