"""Delivery: how corrections are brought to a fleet, decided without doing it."""

from ivrel.core.delivery.waves import FIRST, Held, Order, Wave, WaveCandidate, in_waves

__all__ = ["FIRST", "Held", "Order", "Wave", "WaveCandidate", "in_waves"]
