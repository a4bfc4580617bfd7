"""Quillport Tramways: a practice system with a known truth.

``config`` describes it, ``server`` plays it over real sockets, ``twin`` plays it in virtual time,
``truth`` computes what an analysis should find. The truth never feeds the findings.
"""
