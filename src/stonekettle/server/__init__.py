"""The web application: data, permissions, API and tasks. No computation of its own."""
