SELECT place, staged, account, seen, began FROM upload
