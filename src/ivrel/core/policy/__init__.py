"""The policy: collectors, rules and waivers, and what they come to for one device."""

from ivrel.core.policy.check import Remark, ending, remarks
from ivrel.core.policy.policy import Policy, Requirement, Rule, Site, Waiver, effective
from ivrel.core.policy.read import read_policy

__all__ = [
    "Policy",
    "Remark",
    "Requirement",
    "Rule",
    "Site",
    "Waiver",
    "effective",
    "ending",
    "read_policy",
    "remarks",
]
