"""Learning a sheet from saved sessions in which a person marked what things are.

`marks` reads the marks, `dialogue` takes a session apart, `things` says what each mark is about,
`shapes` and `values` make patterns of lines and of what stands in them, `answers` makes a template
that understands every line of an answer, `lesson` puts all of it together, `guesses` offers more
marks, and `writing` writes the sheet.
"""
