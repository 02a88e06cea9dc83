"""Making all levels add up."""
