"""Feeds by themselves: rows uploaded, written or made, named by journeys and experiments."""
