"""One trial with everything around it: files, answers, marks, the steps before and after."""
