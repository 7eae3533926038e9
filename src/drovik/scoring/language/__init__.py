"""What of scoring depends on a language: words, stems, denials; which language a text is in."""
