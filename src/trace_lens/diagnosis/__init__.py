"""From an attempt to a diagnosis: the application chosen, the moment fixed, the questions asked, the causes sorted."""
