"""The policy: collectors, rules and waivers, and what they come to for one device."""

from ivrel.core.policy.policy import Policy, Requirement, Rule, Waiver, effective, read_policy

__all__ = ["Policy", "Requirement", "Rule", "Waiver", "effective", "read_policy"]
