"""Words of the trade: what a configuration may say of export, on whatever platform."""

from __future__ import annotations

from ivrel.core.vocabulary.severity import FACILITIES, SEVERITIES

# Words that occur all over a configuration, whatever it is about.
GENERIC = frozenset(
    """
    access action active address admin any apply area auth bind class client community count
    default description device dhcp disable domain enable family file filter forward from gate
    gateway group host id in inet inet6 input interface ip ipv4 ipv6 key lane level limit line link
    list local loopback map mask match maximum memory metric minimum mode mtu name names neighbor
    net network next no number off on option out output peer permit policy pool port prefix
    priority profile protocol queue range rate remote route router rule security server service
    set shutdown size source speed state static status tag target the through time timeout to
    transport tunnel type unit update use user value vlan vrf zone
    """.split()
)

# Words about export, and those of the standards.
OF_EXPORT = frozenset(
    """
    advanced alarm alarms algorithm archive audit buffer buffered calendar category certificate
    change changes channel clock collector collectors compare config configuration console data
    date debug delivery destination destinations down drop each event events export facilities
    facility feed fields files fine format fraction hostname inner instance journal json least
    log logger logging login logins logs management message messages microseconds milliseconds
    monitor most mute none ntp numbering only origin originator outer pattern precision record
    records relay repeat report resolver retention rfc3164 rfc5424 rollover second seconds
    selection send sender sequence session sessions severities severity show shut signers
    signing sink stamp structured syslog tcp telemetry text threshold ticks timestamp timestamps
    timezone tls trap traps udp up uptime utc verify warnings with without year yes
    """.split()
)

WORDS = frozenset({*GENERIC, *OF_EXPORT, *FACILITIES, *SEVERITIES})
