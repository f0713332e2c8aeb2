"""Text of files: bundles, the index of a text's lines, words, and changed lines."""
