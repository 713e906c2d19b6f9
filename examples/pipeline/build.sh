test -f office.py
