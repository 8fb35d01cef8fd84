"""Commands and handlings; each module registers its own."""
