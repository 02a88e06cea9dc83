"""Compiled leaves: arrays and scalars in, arrays out. They release the GIL and know no classes."""
