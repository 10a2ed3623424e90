"""Learning a sheet from saved sessions in which a person marked what things are.

`files.marks` reads the marks, `dialogue` takes a session apart, `things` says what each mark is
about, `shapes` and `values` make patterns of lines and of what stands in them, `answers` makes
rules that understand every line of an answer, `template` makes a template of the rules, `check`
looks every mark up in what is read, and `lesson` puts all of it together. `guesses` offers more
marks, `choices` are what no session tells, and `writing` writes the sheet.
"""
