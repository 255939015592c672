"""How settings are declared, checked and stored."""
