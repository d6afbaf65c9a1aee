"""From document to scene: stages of air, bodies and light, and their order (`preparer`). What a
stage hangs on are its inputs; add one here and name it where it is called.
"""
