"""The report as a page for a browser: `content` says what is on it, `pictures` what is drawn, `rendering` makes the file."""
