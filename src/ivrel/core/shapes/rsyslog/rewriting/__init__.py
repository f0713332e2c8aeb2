"""Corrections: actions changed where they are, new ones in a place of their own, and all that as a
unified diff.
"""
