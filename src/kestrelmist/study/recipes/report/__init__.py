"""The report of a run: what was checked, what was done on whom, pictures to judge it by, numbers out of the usual."""
