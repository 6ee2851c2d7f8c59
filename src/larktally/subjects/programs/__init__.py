"""Subjects in other languages: a program that is spoken to line by line, over a pipe or a socket."""
