"""Sets of pictures for machine learning, from a table of boxes and a folder."""
