"""The document: a frozen value holding everything the analyst has made."""
