"""The policy: collectors, rules and waivers, and what they come to for one device."""

from ivrel.core.policy.collector import Collector
from ivrel.core.policy.policy import Policy, Requirement, Rule, Site, Waiver, effective

__all__ = ["Collector", "Policy", "Requirement", "Rule", "Site", "Waiver", "effective"]
