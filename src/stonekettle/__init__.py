"""Stone Kettle: stepped load experiments, measured on both sides of the wire."""

__version__ = "0.1.0"
