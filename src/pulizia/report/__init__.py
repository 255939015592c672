"""What a report says and how it is written."""
