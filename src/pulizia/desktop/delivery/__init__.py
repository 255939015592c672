"""The Delivery place."""
