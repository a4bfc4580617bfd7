"""Journeys from what other programs write: recordings of a browser, descriptions of an API, lists."""
