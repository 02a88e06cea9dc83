"""What is known beyond history: plans, and the panel that they make of one."""
