"""Streams: the catalogue, batches taken in, and samples in two layers."""
