"""Heavy truth: results against what is known, over many made-up cases; minutes long, beside the tests."""
