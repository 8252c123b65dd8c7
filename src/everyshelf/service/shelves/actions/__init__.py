"""The use cases of shelves: typed input, one transaction, a value or an error of ours; none sees a request."""
