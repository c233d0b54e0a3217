"""What is said of findings, trials, core samples, charts and lightmaps, as pydantic models: the one JSON of the command line, the API and
the files that are handed over. docs/formats.md says what the keys mean; the front end's types are generated from them."""
