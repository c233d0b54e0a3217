"""Where frames are drawn and builds measured: a process of its own, so that pages never wait for it.

`turns` says whose turn it is, `room` is what a process has open, `desk` is where the rest of the server asks. What answers there is
`eddyfall.site.studio`.
"""
