"""Delivery: how corrections are brought to a fleet, decided without doing it."""

from ivrel.core.delivery.waves import FIRST, Candidate, Held, Order, Wave, in_waves

__all__ = ["FIRST", "Candidate", "Held", "Order", "Wave", "in_waves"]
