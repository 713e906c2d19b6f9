"""States of folders that are kept beside a record, so that a later observation can lay them out again."""
