"""The computation: pure functions on NumPy arrays, without I/O, clock or global state."""
