"""Reads resource metrics and turns them into utilisation on the run's clock. No Django."""
