"""What differs between two rigs, or two dates of one: values, numbers, findings, and what died with the change."""
