"""Task cards: one file each. A card shows the task at hand and changes the job live."""
