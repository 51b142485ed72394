"""A drive that is somewhere else: in a window, or served without one.

messages   calls as JSON-RPC 2.0, and what they can come back as
here       the drive in the window, as a `pendel.Drive` for scripts inside and programs outside
owner      who has the drive: what it answers, and one that has it from a file
host       the confined process in which a script, or what a caller asks for, runs
given      which folder of the user's scripts may use besides
script_run a script that runs, as its owner sees it
methods    every method of `Drive`, `Run` and cards that can be called from elsewhere, found by what they declare
desk       does these for callers, in the host
answers    what their results are, as JSON Schemas
describe   the same as an OpenRPC document and as a page of docs
server     the doors: HTTP and a Unix socket
"""
