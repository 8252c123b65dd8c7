"""Who last set each part of an artifact, and the forms it had before."""
