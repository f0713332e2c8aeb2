"""Ivrel audits, corrects and proves the syslog export settings of a fleet of network devices."""

__version__ = "0.1.0"
