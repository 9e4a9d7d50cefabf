"""Small widgets that several views share."""
