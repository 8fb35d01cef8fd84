"""Heavy truth: results against what is known, over many made-up cases that the tests do not use."""
