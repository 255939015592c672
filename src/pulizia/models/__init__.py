"""Trained models that come inside packages; nothing is ever fetched."""
