"""The page of a recipe: what comes in, its steps, on whom it is done."""
