"""The files a person writes, read and checked: settings, cases, tasks, prompts, dialects."""
