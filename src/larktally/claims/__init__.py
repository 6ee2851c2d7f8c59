"""What is expected of a trace: claims, what each comes to, and files of them."""
