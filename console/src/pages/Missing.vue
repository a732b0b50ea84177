<template>
  <div class="page">
    <h1>There is no such page</h1>
    <p><RouterLink to="/">To the overview</RouterLink></p>
  </div>
</template>
