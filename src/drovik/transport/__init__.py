"""HTTP: sessions, dispatcher, attempts, rate control, retries, circuit breaker, local services."""
