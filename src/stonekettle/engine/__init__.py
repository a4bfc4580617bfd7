"""Makes load: virtual users, transport, generators, and the conductor of a run. No Django."""
