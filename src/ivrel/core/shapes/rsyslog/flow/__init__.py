"""What a configuration does: which messages reach which action, by whatever rules precede it.

Documentation: "Filter Conditions" (configuration/filters), "Rulesets" (concepts/multi_ruleset),
"Forwarding Output Module" (configuration/modules/omfwd).
"""
