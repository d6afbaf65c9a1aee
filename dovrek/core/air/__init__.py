"""The clear air: what it is made of, its columns toward the sun, its scattering, what one observer
sees of it, and the sun and moon that light it. Heights are kilometres in the tables.
"""
