"""Learning: a dialect from saved configurations of one platform.

Statements that differ in their values only become one pattern (`templates`); what their values mean
follows from their types, from the words beside them, and from what they refer to (`meanings`). What
is not sure is reported and left out: a statement without a pattern makes verdicts `unknown`, and a
wrong pattern would make them wrong.
"""
