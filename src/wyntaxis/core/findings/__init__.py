"""Findings: what agrees and what does not, each with its arithmetic, source and remedy.

A finding is a function of an evaluation, declared with :func:`wyntaxis.core.findings.registry.finding`, which names the
step that tells it, the condition of the night that it proves or breaks, and the finding that it comes after.
"""
