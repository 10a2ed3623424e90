"""The use cases: what a command does, without how it is typed or shown.

`devices` are the devices of a fleet as they were last read, `policy` what is wanted of them, `work`
what is done with each, `runner` and `cluster` where, `answering` the answer for each, `again` the
results that still hold, `history` and `marking` what is remembered. What a use case has to tell by
the way is logged as a warning (`ovek.app`), so that whoever calls it hears it as it likes.
"""
