"""The computation, tested alone: no Flask, no database, no HTML. Rooms, from the ground up; each
may use those before it and none after it (import-linter holds that):

compile, run · colour · geometry · air · clouds · transport · prepare · picture · photo
"""
