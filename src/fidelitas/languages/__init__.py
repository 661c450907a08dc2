"""Languages: text in, facts out, one format a module.

A language is pure and never raises on content: what it cannot read becomes a `Gap` with its line and costs only itself.  It does not
know where the text came from, nor what its statements allow.  :mod:`fidelitas.languages.linux.host` knows which file is in which language.
"""
