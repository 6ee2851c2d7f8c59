"""python -m larktally: the command line."""

from larktally.cli import main

if __name__ == "__main__":
    main(prog_name="larktally")
