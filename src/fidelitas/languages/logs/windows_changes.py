"""What events of the security log say was changed: accounts, groups, policies, tasks; in which words, and of an account its flags.

By "Appendix L: Events to Monitor" and the page of each event.
"""

from collections.abc import Mapping

__all__ = ["OF_ACCOUNTS", "OF_GROUPS", "OF_MEMBERS", "OF_POLICIES", "OF_TASKS", "what_changed"]

OF_ACCOUNTS = {
    4720: "account made", 4722: "account enabled", 4723: "password changed", 4724: "password set by another", 4725: "account disabled",
    4726: "account removed", 4738: "account changed", 4740: "account locked out", 4767: "account unlocked", 4781: "account renamed",
    4741: "account of a machine made", 4742: "account of a machine changed", 4743: "account of a machine removed",
    4765: "former SID added", 4766: "former SID not added",
}  # fmt: skip
OF_GROUPS = {
    **dict.fromkeys((4727, 4731, 4754), "group made"), **dict.fromkeys((4730, 4734, 4758), "group removed"),
    **dict.fromkeys((4735, 4737, 4755), "group changed"), 4764: "sort of group changed",
}  # fmt: skip
OF_MEMBERS = {
    **dict.fromkeys((4728, 4732, 4756), "added to the group"), **dict.fromkeys((4729, 4733, 4757), "removed from the group"),
}  # fmt: skip
OF_POLICIES = {
    4706: "trust of a domain made", 4707: "trust of a domain removed", 4713: "Kerberos policy changed", 4716: "trust of a domain changed",
    4739: "policy of the domain changed",
}  # fmt: skip
OF_TASKS = {4698: "made", 4699: "removed", 4700: "switched on", 4701: "switched off", 4702: "changed"}
# Bits of OldUacValue and NewUacValue, which are not those of userAccountControl ([MS-SAMR] 2.2.1.12).
_FLAGS = {
    0x1: "disabled", 0x4: "no password required", 0x80: "machine", 0x100: "domain controller", 0x200: "password never expires",
    0x400: "locked", 0x800: "password kept reversibly", 0x1000: "smart card required", 0x2000: "trusted for delegation",
    0x4000: "not to be delegated", 0x8000: "DES keys only", 0x10000: "no pre-authentication", 0x40000: "acts for others by any protocol",
}  # fmt: skip
# What an event repeats of whom and by whom; the rest is what was changed, where it is not "-".
_ABOUT = ("Subject", "Target")
_FLAG_FIELDS = frozenset({"OldUacValue", "NewUacValue", "UserAccountControl"})
_TIMES = frozenset({"PasswordLastSet"})
_MOST = 6


def what_changed(data: Mapping[str, str]) -> str:
    """Return what an event about an account or group says was changed, in a few words; empty where it does not say."""
    parts = [_flags(data)] if _flags(data) else []
    for name, value in data.items():
        stated = value not in ("", "-", "%%1793", "%%1794")  # these two say "not set" and "never"
        if stated and not name.startswith(_ABOUT) and name not in _FLAG_FIELDS | _TIMES and name not in ("PrivilegeList", "Dummy"):
            parts.append(f"{name} {value}")
    return ", ".join(parts[:_MOST])


def _flags(data: Mapping[str, str]) -> str:
    """Return the flags that were set and cleared: "now disabled", "no longer locked"."""
    try:
        old, new = int(data.get("OldUacValue", ""), 16), int(data.get("NewUacValue", ""), 16)
    except ValueError:
        return ""
    now = [name for bit, name in _FLAGS.items() if new & bit and not old & bit]
    before = [name for bit, name in _FLAGS.items() if old & bit and not new & bit]
    return ", ".join([*(f"now {name}" for name in now), *(f"no longer {name}" for name in before)])
