"""Files of findings and annotations, in and out."""
