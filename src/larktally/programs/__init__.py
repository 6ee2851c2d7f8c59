"""Subjects in other languages: a program that is spoken to line by line, over a pipe or a socket."""

from larktally.programs.program import Program
from larktally.programs.vetting import Vetting, vet

__all__ = ["Program", "Vetting", "vet"]
