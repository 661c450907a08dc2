"""Where the policy of sudo is stored, and which of that sudo refuses because others can write it.

Knows how sudo examines its files (sudo_secure_path in its source); not who the others are.
"""

from posixpath import dirname

from fidelitas.facts import FileState, HostFacts, PolicyFileState

__all__ = ["policy_places", "refuses"]

_SETTINGS = "/etc/sudo.conf"


def policy_places(facts: HostFacts) -> dict[str, str]:
    """Return each file and folder of the policy, and every folder above, with the policy file or folder that it leads to."""
    paths = dict.fromkeys(file.path for file in facts.policy.files if file.state is not PolicyFileState.MISSING)
    if _SETTINGS in facts.states:
        paths[_SETTINGS] = None
    below: dict[str, str] = {}
    for path in paths:
        at = path
        while at not in below:
            below[at] = path
            at = dirname(at)
    return below


def refuses(path: str, facts: HostFacts) -> bool:
    """Return whether sudo does not use a file or folder of its policy: anyone who can write it gains nothing by that."""
    if path == _SETTINGS:
        state = facts.states.get(path)
        return state is not None and unsafe_settings(state)
    refused = {file.path for file in facts.policy.files if file.state is PolicyFileState.REFUSED}
    return path in refused or dirname(path) in refused


def unsafe_settings(state: FileState) -> bool:
    """Return whether sudo ignores sudo.conf: it has to belong to root, and no group may write it, not even root's."""
    return bool(state.uid) or (state.mode is not None and bool(state.mode & 0o022))
