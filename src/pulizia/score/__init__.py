"""Steps, the chain that renders them, its cache, and recipes."""
