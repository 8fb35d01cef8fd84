"""Small parts that many pages are made of."""
