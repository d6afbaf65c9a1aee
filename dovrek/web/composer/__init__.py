"""The composer. Routes: `page` (the screen and its changes), `layers`, `handling` (views by hand),
`judging` (strips and sheets). Panels: `section`, `schedule`, `ribbon`, `overlay`.
"""
