"""Small servers that play rented edges and stores in rehearsals; they know nothing of the engines."""
