"""The page that tells how a line was over some time, for people who have no terminal.

`contents` gathers what stands on it, `figures` draws, `page` puts it together from `page.html.j2`.
"""
