"""From scenes to pictures: qualities, samples, tiles, calming, metering; the studio that does it
all, and the probe that measures without a picture.
"""
