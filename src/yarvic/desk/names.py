"""Names that the desk shows before anything is loaded."""

# The demo jobs by file name; what builds them is imported when it is asked for.
DEMO_NAMES = (("ptarmigan", "Ptarmigan"), ("wether", "Wether"), ("fieldfare", "Fieldfare"), ("whinchat", "Whinchat"))
