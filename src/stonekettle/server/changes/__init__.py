"""Journeys by themselves: written, tried once, named by experiments."""
