"""What leaves the house: JSON reports, SARIF, HTML sheet, JSON Patch, repaired GLB and setup."""
