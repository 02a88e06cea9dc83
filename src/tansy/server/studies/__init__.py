"""Studies: recipes, their runs and what came out."""
