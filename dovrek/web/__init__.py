"""The application: pages and the live picture. One folder a screen, with its routes, templates,
scripts and styles; `live` below them (no Flask), `shared` between, `app` and `server` above. A
screen uses no other screen.
"""
