"""Reply text → the JSON found in it → checked against the schema → a status."""
