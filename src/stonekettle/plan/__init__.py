"""The experiment document: typed models, validation with paths and mends, JSON Schema. No I/O."""
