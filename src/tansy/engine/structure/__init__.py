"""Which nodes there are, and what adds up to what."""
