"""The last step: notes and sentences, as people say them."""
