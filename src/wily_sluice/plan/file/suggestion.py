"""Guesses the meaning of an unknown word: a word of nearly the same spelling, or a synonym in the trade."""

from collections.abc import Sequence
from difflib import get_close_matches

MOST_LISTED = 16  # known words that a message lists

# By the word that is meant, others that people use for it.
SYNONYMS = {
    "calls": "voip voice telephony telephone phone phones call",
    "meetings": "conference conferences conferencing video-call video-calls videoconference video-conference meeting",
    "play": "game games gaming console consoles",
    "swarms": "torrent torrents p2p peer-to-peer file-sharing filesharing",
    "names-and-time": "dns ntp time clock",
    "tunnels": "vpn vpns tunnel",
    "mail": "email e-mail",
    "web": "http https browsing internet www",
    "streaming": "video videos films movies tv television radio music stream",
    "remote-desks": "ssh rdp vnc remote-desktop desktop shell",
    "printing": "print printer printers scanner",
    "files": "smb nfs ftp fileserver file-server backup backups",
    "updates": "update download downloads patches",
    "management": "snmp syslog monitoring",
    "down": "download downlink downstream ingress in rx",
    "up": "upload uplink upstream egress out tx",
    "local": "source src host hosts from lan inside client",
    "remote": "destination dst to server wan outside peer",
    "guarantee": "min minimum reserve reserved assured committed rate",
    "cap": "max maximum ceiling limit upper-limit",
    "priority": "prio precedence importance",
    "weight": "share shares ratio",
    "delay": "latency max-delay",
    "when": "schedule time hours during",
    "queue": "class target into action",
    "queues": "classes children",
    "rules": "filters policies matches",
    "limiters": "limits limit policers caps",
    "uplinks": "lines wans links interfaces",
    "networks": "lans subnets",
    "service": "app application services",
    "protocol": "proto",
    "port": "ports dport sport",
    "engage": "threshold above",
    "framing": "encapsulation",
    "carried-in": "cells",
    "shortest-frame": "minimum",
    "frame-adds": "overhead",
    "mappings": "openings forwards",
    "mapping": "opening forward",
    "probe": "health",
    "headroom": "reserve margin",
    "interface": "device dev iface nic",
    "subnets": "subnet addresses prefixes",
    "members": "hosts addresses",
    "excess": "overflow exceed",
    "mark": "dscp tag",
    "udplite": "udp-lite",
    "icmp": "ping icmpv6 icmp6",
}
MEANT = {word: meant for meant, words in reversed(SYNONYMS.items()) for word in words.split()}


def suggestion(word: str, known: Sequence[str], where: str = "") -> str:
    """`did you mean “headroom”?`, or the known words; where these are many, `where` says what lists them."""
    near = get_close_matches(word.lower(), known, n=1, cutoff=0.7)
    meant = near[0] if near else MEANT.get(word.lower(), "")
    if meant not in known:
        near = get_close_matches(word, known, n=1, cutoff=0.6)
        meant = near[0] if near else ""
    if meant:
        return f"did you mean “{meant}”?"
    if len(known) > MOST_LISTED and where:
        return where
    return f"known here: {', '.join(known)}" if known else ""
