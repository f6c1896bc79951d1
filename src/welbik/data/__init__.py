"""Made-up rows: row i of a model is a function of the seed number, the model and i alone."""
