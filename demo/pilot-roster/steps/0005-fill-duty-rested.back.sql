UPDATE duty SET rested = NULL;
