"""Made-up parts with known truth, and the photo-like pictures drawn of them."""
