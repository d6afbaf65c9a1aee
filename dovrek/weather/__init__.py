"""Weather reports read: METAR, a TAF's hour, and what they say of a sky.

Here belong readings of other people's formats of the weather and the skies that follow; they know
the document and nothing that computes it.
"""
