"""The types of measures, one module each; the table of them is `drovik.scoring.catalogue`."""
