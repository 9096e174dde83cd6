"""Make a group of all devices that a rule matches: python group_by_rule.py "Frost zone" 'tag = frost-zone'"""

import sys

from herald import call

name, rule = sys.argv[1:]
found = call("POST", "rules/preview", {"rule": rule, "limit": 3})
print(f"{found['count']} of {found['fleet']} devices, like {', '.join(d['name'] for d in found['devices'])}")
group = call("POST", "groups", {"name": name, "rule": rule})
print(f"group {group['id']}")
