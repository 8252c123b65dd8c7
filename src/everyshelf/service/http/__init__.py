"""What the views of all capabilities share: their base, reading input, streaming bodies, rendering."""
