"""Results to text and JSON. Nothing here decides; it only tells."""
