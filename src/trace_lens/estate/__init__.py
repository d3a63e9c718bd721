"""The estate put on record: settings made from captures and documents, and merged with what is there."""
