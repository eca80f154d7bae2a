"""People: sign-in, roles, and when each last looked."""
