"""The systems that are measured: their descriptions, what is pushed for them, what is pinned."""
