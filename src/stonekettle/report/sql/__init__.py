"""SQL over what a run measured: the tables that can be asked, and the process that answers."""
