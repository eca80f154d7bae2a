"""How far is too far: scores with what windows betray, levels read off tails, flags, groups of them; and all of it as if live."""
