"""Text as it stands in files: bundles of files, the index of a text's lines, words, lines that
change.
"""
