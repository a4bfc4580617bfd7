"""Findings in words, a finding a module: the one place where a conclusion becomes a sentence."""
