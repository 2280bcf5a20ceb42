"""The common shape: tables of findings and annotations, and what is done with whole tables."""
