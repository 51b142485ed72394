"""What is looked for in a run with cards of a kind, one file a subject; kinds name the functions in
`Kind.remarks`."""
