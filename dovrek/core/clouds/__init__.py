"""Clouds: the record of a layer, builds of density (one file each), masks, heaps in their places,
and light within one layer. No air, no views. A new value of a layer goes into `record`, is
filled in `values`, and is read where density or light wants it.
"""
