"""Field rules: when a value counts as the expected one, one family a module; the table is in `table`."""
