"""The front door: installs, starts, stops and checks. Runs on a bare Python, before anything else."""
