"""The vortex lattice: a lifting surface of vortex rings on the mean camber surfaces of an aircraft."""
