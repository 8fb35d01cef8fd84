"""Recipes that come with the program."""
