"""The logbook: the annotated history, with every revision."""
