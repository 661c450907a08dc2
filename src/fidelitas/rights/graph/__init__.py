"""Links, paths, routes to rights, and what groups give to their members: knows no platform."""
