SELECT DISTINCT run FROM item WHERE state = 'joining'
