"""Rights on a Windows machine: administrators by SID at any depth, user rights, and what runs as the system from where others can write."""

from fidelitas.rights.windows.machine import ADMINISTRATORS, WindowsRights, windows_rights_of

__all__ = ["ADMINISTRATORS", "WindowsRights", "windows_rights_of"]
