"""Answer and expected output → statistics and findings; one module per type of measure."""
