"""Speed, measured against the budgets and against a yardstick of the same run: `make bench`."""
