"""The rows of a Windows machine, and what tools of Windows print."""
