"""Stand-ins: a fleet of simulated devices on this machine, to try things on."""
