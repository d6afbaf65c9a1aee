"""Work: threads, the word to stop, stages whose inputs are their keys, and the cache that keeps
their results. It knows nothing of what is computed.
"""
