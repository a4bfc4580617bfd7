"""Findings as people and programs read them: sentences, result files, exports."""
