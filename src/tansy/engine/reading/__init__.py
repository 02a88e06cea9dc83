"""Tables in, panel and findings out."""
