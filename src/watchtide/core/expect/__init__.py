"""What each sample was expected to be, and how far it may stray: `expectation` fits and judges, by one of the `baselines`."""
