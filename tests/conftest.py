"""What every test stands on."""

from watchtide import kernels

kernels.use_cache()
