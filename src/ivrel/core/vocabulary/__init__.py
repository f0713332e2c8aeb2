"""What all parts speak of: severities, types of values, values with their lines, verdicts,
errors.
"""
