"""The computation: arrays and plain dataclasses in, dataclasses out.

Nothing here reads a clock, a file or a socket, and nothing here writes prose for a screen.
Each module answers one question; ``analysis`` asks them in order for one run.
"""
