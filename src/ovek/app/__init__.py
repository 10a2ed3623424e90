"""The use cases: what a command does, without how it is typed or shown.

`asking` is what a script begins with. `devices` are those of a fleet as they were last read,
`policy` what is wanted of them, `work` what is done with each, `runner` and `cluster` where,
`answering` the answer for each, `again` the results that still hold, `shelves` what lies on each,
`copies` where images are, `history` and `marking` what is remembered. What a use case has to tell
by the way is logged as a warning (`ovek.app`), so that whoever calls it hears it as it likes.
"""
