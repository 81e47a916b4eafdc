package regular

// NoFollow does nothing: making links takes a right of its own.
const NoFollow = 0

const noWait = 0
