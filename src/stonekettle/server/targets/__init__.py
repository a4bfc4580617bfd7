"""Targets: the hosts that load may go to, by whom that was decided, and until when."""
