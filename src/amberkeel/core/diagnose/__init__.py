"""What is weak about a solve, why, and what could help."""
