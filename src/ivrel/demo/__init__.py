"""The example: Skerry Line, a ferry company, its fleet, its policy and the faults that are hidden
in it.
"""
