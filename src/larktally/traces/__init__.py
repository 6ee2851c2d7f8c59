"""What a run leaves behind: channels and columns, events, header, the trace."""
